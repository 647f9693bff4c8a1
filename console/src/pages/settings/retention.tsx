import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, take, type Schema } from "../../api/client";
import { Button, Loading, Trouble } from "../../parts/controls";
import { count, When } from "../../parts/format";
import { Lamp } from "../../parts/lamp";

type All = Schema<"Retentions">;

const names: Record<Schema<"RelayRetention">["kind"], string> = {
  received: "Received, word for word",
  sent: "Sent, word for word",
  runs: "Runs and their logs",
  timeline: "Steps of orders",
  exceptions: "Exceptions",
  notices: "Messages to people",
  looks: "Looks at personal data",
  security: "Security events",
};

const key = ["retention"];

/** For how long things stay whole, and how thinning went. */
export function Retention() {
  const client = useQueryClient();
  const q = useQuery({
    queryKey: key,
    queryFn: () => take(api.GET("/api/v1/retention")),
    refetchInterval: (query) => (query.state.data?.last && !query.state.data.last.ended ? 1000 : false),
  });
  const [edit, setEdit] = useState<Record<string, string> | null>(null);
  const done = (all: All) => {
    client.setQueryData(key, all);
    setEdit(null);
  };
  const put = useMutation({
    mutationFn: (days: Record<string, number>) => take(api.PUT("/api/v1/retention", { body: { days } })),
    onSuccess: done,
  });
  const thin = useMutation({
    mutationFn: () => take(api.POST("/api/v1/retention/thin")),
    onSuccess: (all) => {
      done(all);
      setTimeout(() => void client.invalidateQueries({ queryKey: key }), 500);
    },
  });
  const all = q.data;
  return (
    <section aria-label="How long things stay whole">
      <div className="mb-1 flex items-baseline justify-between">
        <h2>How long things stay whole</h2>
        <Button disabled={thin.isPending || (!!all?.last && !all.last.ended)} onClick={() => thin.mutate()}>
          Thin what is old now
        </Button>
      </div>
      <p className="mb-2 max-w-prose text-quiet">
        What is older is thinned once a day, while the service works. Orders, parcels, stock and books stay for ever. Empty or 0 days: it
        stays whole for ever.
      </p>
      <Trouble error={q.error ?? put.error ?? thin.error} />
      {q.isPending && <Loading />}
      {all && (
        <form
          onSubmit={(e) => {
            e.preventDefault();
            put.mutate(Object.fromEntries(Object.entries(edit ?? {}).map(([kind, days]) => [kind, Number(days || 0)])));
          }}
        >
          <table className="ledger">
            <thead>
              <tr>
                <th>Kind</th>
                <th>What</th>
                <th className="r">Thinned last</th>
                <th className="r">Days</th>
              </tr>
            </thead>
            <tbody>
              {all.kinds?.map((k) => (
                <tr key={k.kind}>
                  <td className="font-medium whitespace-nowrap">{names[k.kind]}</td>
                  <td className="text-quiet">{k.what}.</td>
                  <td className="r fig">{all.last?.thinned?.[k.kind] ? count(all.last.thinned[k.kind] ?? 0) : ""}</td>
                  <td className="r">
                    <input
                      className="field fig w-20 text-right"
                      inputMode="numeric"
                      aria-label={`Days of ${names[k.kind]}`}
                      placeholder="for ever"
                      value={edit?.[k.kind] ?? (k.days === 0 ? "" : String(k.days))}
                      onChange={(e) => setEdit({ ...edit, [k.kind]: e.target.value.replace(/\D/g, "") })}
                    />
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          <div className="mt-3 flex items-center gap-4">
            <Button type="submit" disabled={!edit || put.isPending}>
              Keep these
            </Button>
            {edit && (
              <Button kind="quiet" onClick={() => setEdit(null)}>
                Leave it as it was
              </Button>
            )}
            <Went all={all} />
          </div>
        </form>
      )}
    </section>
  );
}

function Went({ all }: { all: All }) {
  const mb = (n: number) => (n / 1e6).toFixed(1);
  const last = all.last;
  return (
    <span className="text-quiet">
      {last && !last.ended && <Lamp state="busy">thinning {last.kind} …</Lamp>}
      {last?.error && <Lamp state="stop">{last.error}</Lamp>}
      {last?.ended && !last.error && (
        <>
          Last <When at={last.ended} />; nobody waited longer than {last.longest_ms.toFixed(1)} ms.{" "}
        </>
      )}
      The file has {mb(all.bytes)} MB, {mb(all.free)} MB of it free to be used again.
    </span>
  );
}

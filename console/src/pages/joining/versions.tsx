import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, take } from "../../api/client";
import { Button, Empty, Loading, Sheet, Trouble } from "../../parts/controls";
import { When } from "../../parts/format";
import { Changed, ComparisonView, differs } from "./comparison";

/** The versions of a definition: what each changed, and how one is taken back. */
export function Versions({ code, open, onClose, onTaken }: { code: string; open: boolean; onClose: () => void; onTaken?: () => void }) {
  const client = useQueryClient();
  const [shown, setShown] = useState(0);
  const list = useQuery({
    queryKey: ["connector", code, "versions"],
    enabled: open,
    queryFn: () => take(api.GET("/api/v1/connectors/{code}/versions", { params: { path: { code } } })),
  });
  const one = useQuery({
    queryKey: ["connector", code, "versions", shown],
    enabled: open && shown > 0,
    queryFn: () => take(api.GET("/api/v1/connectors/{code}/versions/{version}", { params: { path: { code, version: shown } } })),
  });
  const newest = list.data?.[0]?.version ?? 0;
  const compare = useQuery({
    queryKey: ["connector", code, "back to", shown, newest],
    enabled: open && shown > 0 && shown !== newest && !!one.data,
    queryFn: () => take(api.POST("/api/v1/connectors/compare", { body: { text: one.data!.text } })),
  });
  const back = useMutation({
    mutationFn: () =>
      take(api.POST("/api/v1/connectors/{code}/take-back", { params: { path: { code } }, body: { version: shown, anyway: true } })),
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: ["connector", code] });
      void client.invalidateQueries({ queryKey: ["connectors"] });
      setShown(0);
      onTaken?.();
    },
  });
  return (
    <Sheet open={open} onClose={onClose} title={`Versions of ${code}`} wide>
      <Trouble error={list.error ?? one.error ?? compare.error ?? back.error} />
      {list.isPending && <Loading />}
      {list.data?.length === 0 && <Empty>It was not added here: it ships with the service, or lies in its folder of definitions.</Empty>}
      {list.data && list.data.length > 0 && (
        <table className="ledger mb-4">
          <thead>
            <tr>
              <th>Version</th>
              <th>When</th>
              <th>Who</th>
              <th>What was changed</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {list.data.map((v) => (
              <tr key={v.version} aria-current={v.version === shown || undefined}>
                <td>
                  {v.version}
                  {v.version === newest && <span className="text-[12px] text-quiet"> at work</span>}
                </td>
                <td>
                  <When at={v.at} />
                </td>
                <td>{v.who}</td>
                <td>{v.note}</td>
                <td className="r">
                  <Button kind="quiet" aria-label={`Look at version ${v.version}`} onClick={() => setShown(v.version)}>
                    Look
                  </Button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {shown > 0 && one.data && (
        <section>
          {shown === newest || !compare.data ? (
            <>
              <h2 className="mb-1">{one.data.lines ? `What version ${shown} changed` : `Version ${shown}`}</h2>
              {one.data.lines ? (
                <Changed lines={one.data.lines} />
              ) : (
                <pre className="code max-h-[36vh] overflow-auto border-y border-rule py-2 leading-[18px]">{one.data.text}</pre>
              )}
            </>
          ) : (
            <>
              <h2 className="mb-1">
                Back from version {newest} to version {shown}
              </h2>
              <ComparisonView comparison={compare.data} />
              {compare.data.lines ? (
                <p className="mt-3">
                  <Button kind="main" onClick={() => back.mutate()} disabled={back.isPending}>
                    {differs(compare.data) ? "Take it back all the same" : `Take version ${newest} back`}
                  </Button>
                </p>
              ) : (
                <p className="text-quiet">It is the same as what is at work.</p>
              )}
            </>
          )}
        </section>
      )}
    </Sheet>
  );
}

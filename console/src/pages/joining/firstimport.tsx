import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, take, type Schema } from "../../api/client";
import { Button, Trouble } from "../../parts/controls";
import { count } from "../../parts/format";
import { Lamp, type LampState } from "../../parts/lamp";
import type { Join } from "../../shared/joining/part";

const lamps: Record<string, LampState> = {
  match: "go",
  create: "busy",
  "take in": "busy",
  skip: "idle",
  conflict: "caution",
  matched: "go",
  created: "go",
  "taken in": "go",
  skipped: "idle",
  failed: "stop",
};
const words: Record<string, string> = {
  match: "is matched",
  create: "becomes a new item",
  "take in": "comes over",
  skip: "is left",
  conflict: "wants a look",
  "taken in": "came over",
};

/** Looks at what a system has, shows counts and conflicts, and brings it over on a word. */
export function FirstImport({ join, onNext, onChanged }: { join: Join; onNext: () => void; onChanged: () => void }) {
  const code = join.connection.code;
  const client = useQueryClient();
  const [c, setC] = useState<Schema<"RelayImportChoices">>({ customers: false, items: true, stock: false, orders: true, history: false });
  const q = useQuery({
    queryKey: ["import", code],
    queryFn: () => take(api.GET("/api/v1/connections/{code}/import", { params: { path: { code } } })),
  });
  const settle = () => {
    void client.invalidateQueries({ queryKey: ["import"] });
    onChanged();
  };
  const look = useMutation({
    mutationFn: () => take(api.POST("/api/v1/connections/{code}/import", { params: { path: { code } }, body: c })),
    onSettled: settle,
  });
  const go = useMutation({
    mutationFn: () => take(api.POST("/api/v1/connections/{code}/import/go", { params: { path: { code } } })),
    onSettled: settle,
  });
  const im = q.data;
  const can = (feed: string) => join.connector.can.in.includes(feed);
  const box = (key: "customers" | "items" | "stock" | "orders" | "history", text: string, show: boolean) =>
    show && (
      <label className="flex items-center gap-2 py-0.5">
        <input type="checkbox" checked={c[key]} onChange={(e) => setC({ ...c, [key]: e.target.checked })} /> {text}
      </label>
    );
  const busy = im?.state === "looking" || im?.state === "working";
  return (
    <>
      <p className="mb-2 max-w-prose text-quiet">
        First we only look: everything is fetched and compared, and nothing is changed. Then you decide. Listings are always matched by SKU
        and GTIN.
      </p>
      {!busy && (
        <div className="mb-3">
          {box("items", "Create items for listings that match none of ours", can("listings in"))}
          {box("stock", "Take the quantities shown there as opening stock, where we have none", can("listings in"))}
          {box("customers", "Bring customers over", can("customers in"))}
          {box("orders", "Bring open orders over", can("orders in"))}
          {box("history", "Take orders that are finished there as done, instead of leaving them", can("orders in"))}
          <p className="mt-2 flex gap-2">
            <Button
              kind={im?.state === "none" ? "main" : "plain"}
              onClick={() => look.mutate()}
              disabled={look.isPending || !join.connection.account_no}
            >
              {im?.state === "none" ? "Look at what is there" : "Look again"}
            </Button>
            {im?.state === "none" && <Button onClick={onNext}>Skip this</Button>}
          </p>
          {!join.connection.account_no && <p className="mt-1 text-[12px] text-quiet">Confirm the account first.</p>}
        </div>
      )}
      <Trouble error={q.error ?? look.error ?? go.error} />
      {im && im.state !== "none" && (
        <>
          <div className="mb-2 flex flex-wrap items-center gap-4" role="status">
            <Lamp state={im.state === "failed" ? "stop" : im.state === "done" ? "go" : "busy"}>
              {
                {
                  looking: `looking: ${count(im.total)} records so far`,
                  looked: `${count(im.total)} records found; nothing was changed yet`,
                  working: `${count(im.done)} of ${count(im.total)} brought over`,
                  done: `done: ${count(im.total)} records`,
                  failed: im.error ?? "failed",
                  none: "",
                }[im.state]
              }
            </Lamp>
            {im.state === "working" && <progress className="h-2 w-48" value={im.done} max={Math.max(im.total, 1)} />}
          </div>
          <table className="ledger mb-4">
            <thead>
              <tr>
                <th>What</th>
                <th className="r">Records</th>
                <th>What becomes of it</th>
                <th>Why</th>
              </tr>
            </thead>
            <tbody>
              {im.counts.map((n, i) => (
                <tr key={i}>
                  <td className="whitespace-nowrap">{n.kind.replace(" in", "")}</td>
                  <td className="r fig">{count(n.count)}</td>
                  <td className="whitespace-nowrap">
                    <Lamp state={lamps[n.verdict] ?? "idle"}>{words[n.verdict] ?? n.verdict}</Lamp>
                  </td>
                  <td className="text-quiet">{n.reason}</td>
                </tr>
              ))}
            </tbody>
          </table>
          {im.state === "looked" && (
            <p className="mb-4">
              <Button kind="main" onClick={() => go.mutate()} disabled={go.isPending}>
                Bring it over
              </Button>
            </p>
          )}
          {im.state === "failed" && (
            <p className="mb-4">
              <Button onClick={() => go.mutate()} disabled={go.isPending || im.total === 0}>
                Go on where it ended
              </Button>
            </p>
          )}
          {im.state === "done" && (
            <p className="mb-4">
              <Button kind="main" onClick={onNext}>
                Go on
              </Button>
            </p>
          )}
          {im.records.some((r) => r.verdict === "conflict" || r.verdict === "skip" || r.verdict === "create") && im.state === "looked" && (
            <details>
              <summary className="cursor-pointer text-quiet">Record by record</summary>
              <table className="ledger mt-1">
                <tbody>
                  {im.records.map((r) => (
                    <tr key={r.kind + r.number}>
                      <td className="code w-24">{r.number}</td>
                      <td>{r.title}</td>
                      <td className="whitespace-nowrap">
                        <Lamp state={lamps[r.verdict] ?? "idle"}>{words[r.verdict] ?? r.verdict}</Lamp>
                      </td>
                      <td className="text-quiet">{r.reason}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </details>
          )}
        </>
      )}
    </>
  );
}

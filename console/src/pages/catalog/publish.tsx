import { connectionsQuery } from "../../api/queries";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { Link, useSearchParams } from "react-router";
import { api, take, type Schema } from "../../api/client";
import { Button, Empty, Head, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import { count, Money } from "../../parts/format";
import { Lamp, type LampState } from "../../parts/lamp";
import { catalogStops, Rail } from "../../parts/rail";

const lamps: Record<string, LampState> = { list: "go", change: "busy", nothing: "idle", refused: "stop" };
const says: Record<string, string> = {
  list: "a new listing",
  change: "changes its listing",
  nothing: "nothing to send",
  refused: "not sent",
};

/** Lists items on a channel: what would be sent, exactly, before it is. */
export default function Publish() {
  const client = useQueryClient();
  const [params, setParams] = useSearchParams();
  const connection = params.get("connection") ?? "";
  const skus = params.get("skus") ?? "";
  const mark = params.get("mark") ?? "";
  const [typed, setTyped] = useState({ skus: skus.replaceAll(",", " "), mark });
  const connections = useQuery(connectionsQuery);
  const able = connections.data?.filter((c) => c.state === "on" && c.feeds.some((f) => f.kind === "items out")) ?? [];
  const sel = { skus: skus ? skus.split(",") : undefined, mark: mark || undefined };
  const q = useQuery({
    queryKey: ["publish", connection, skus, mark],
    enabled: !!connection && !!(skus || mark),
    retry: false,
    queryFn: () => take(api.POST("/api/v1/connections/{code}/publish/preview", { params: { path: { code: connection } }, body: sel })),
  });
  const send = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/v1/connections/{code}/publish", {
          params: { path: { code: connection } },
          body: { ...sel, digest: q.data?.digest ?? "" },
        }),
      ),
    onSettled: () => {
      for (const k of ["publish", "listings", "item"]) void client.invalidateQueries({ queryKey: [k] });
    },
  });
  const chosen = able.find((c) => c.code === connection);
  const feed = chosen?.feeds.find((f) => f.kind === "items out");
  const switchOn = useMutation({
    mutationFn: () =>
      take(
        api.PATCH("/api/v1/connections/{code}/feeds/{kind}", {
          params: { path: { code: connection, kind: "items out" }, header: { "If-Match": `"${feed?.revision}"` } },
          body: { on: true, schedule: feed?.schedule },
        }),
      ),
    onSettled: () => void client.invalidateQueries({ queryKey: ["connections"] }),
  });
  const look = (e: FormEvent) => {
    e.preventDefault();
    send.reset();
    setParams((p) => {
      const list = typed.skus
        .split(/[\s,;]+/)
        .filter(Boolean)
        .join(",");
      p.delete("skus");
      p.delete("mark");
      if (list) p.set("skus", list);
      else if (typed.mark) p.set("mark", typed.mark.trim());
      return p;
    });
  };
  return (
    <>
      <Head title="Publish" sub="Lists items on a channel, or brings what is listed there up to date" />
      <Rail label="Catalog" stops={catalogStops} />
      <form onSubmit={look} className="mb-4 grid max-w-4xl items-end gap-3 sm:grid-cols-[12rem_1fr_10rem_auto]">
        <Labelled label="On">
          <select
            className="field w-full"
            required
            value={connection}
            onChange={(e) =>
              setParams((p) => {
                p.set("connection", e.target.value);
                return p;
              })
            }
          >
            <option value="">choose a channel</option>
            {able.map((c) => (
              <option key={c.code} value={c.code}>
                {c.name}
              </option>
            ))}
          </select>
        </Labelled>
        <Labelled label="Items, by their SKUs">
          <input className="field code w-full" value={typed.skus} onChange={(e) => setTyped({ skus: e.target.value, mark: "" })} />
        </Labelled>
        <Labelled label="or all with the mark">
          <input className="field w-full" value={typed.mark} onChange={(e) => setTyped({ skus: "", mark: e.target.value })} />
        </Labelled>
        <Button type="submit">Look</Button>
      </form>
      <Trouble error={q.error ?? send.error ?? switchOn.error} />
      {send.data && (
        <p role="status" className="mb-3 border-l-4 border-go bg-sheet px-3 py-2">
          {count(send.data.sent)} sent. What the channel says of each stands under{" "}
          <Link className="underline decoration-rule underline-offset-4" to={`/listings?match=matched&connection=${connection}`}>
            Listings
          </Link>
          .
        </p>
      )}
      {!q.data && !q.error && (
        <Empty>
          {connections.isSuccess && able.length === 0
            ? "No channel that is joined takes items from us."
            : "Choose a channel and items; what would be sent stands here, to the letter. Nothing leaves before you say so."}
        </Empty>
      )}
      {q.data && (
        <>
          <p className="mb-3 flex flex-wrap items-center gap-4">
            {feed && !feed.on ? (
              <>
                <Lamp state="idle">items out is off on {chosen?.name}</Lamp>
                <Button onClick={() => switchOn.mutate()}>Switch it on</Button>
              </>
            ) : (
              <Button kind="main" disabled={q.data.sent === 0 || send.isPending} onClick={() => send.mutate()}>
                Send {count(q.data.sent)}
              </Button>
            )}
            <span className="text-quiet">
              {count(q.data.rows.length)} {q.data.rows.length === 1 ? "item" : "items"} looked at, {count(q.data.sent)} to send in{" "}
              {count(q.data.requests.length)} {q.data.requests.length === 1 ? "request" : "requests"}
            </span>
          </p>
          <table className="ledger mb-6">
            <thead>
              <tr>
                <th>SKU</th>
                <th>Title there</th>
                <th>What happens</th>
                <th>Group</th>
                <th className="r">Price</th>
                <th className="r">Quantity</th>
              </tr>
            </thead>
            <tbody>
              {q.data.rows.map((r) => (
                <tr key={r.sku} className={r.action === "nothing" ? "text-quiet" : ""}>
                  <td className="code">{r.sku}</td>
                  <td>
                    {r.message.title || <span className="text-quiet">as it is there</span>}
                    {r.message.groups && r.message.groups.length > 0 && (
                      <span className="block text-[12px] text-quiet">
                        asks for {r.message.groups.map((g) => g.name.toLowerCase()).join(", ")}
                      </span>
                    )}
                  </td>
                  <td>
                    <Lamp state={lamps[r.action] ?? "idle"}>{says[r.action]}</Lamp>
                    {r.reason && <span className="block text-[12px]">{r.reason}</span>}
                  </td>
                  <td>{r.message.category}</td>
                  <td className="r">{r.message.price ? <Money minor={r.message.price} currency={r.message.currency ?? ""} /> : ""}</td>
                  <td className="r fig">{count(r.message.quantity)}</td>
                </tr>
              ))}
            </tbody>
          </table>
          <Requests list={q.data.requests} />
        </>
      )}
    </>
  );
}

function Requests({ list }: { list: Schema<"ConnectorExchange">[] }) {
  if (list.length === 0) return null;
  return (
    <section>
      <h2 className="mb-1">Exactly as it would leave</h2>
      {list.map((x, i) => (
        <details key={i} open={i === 0} className="border-t border-rule py-2">
          <summary className="code cursor-pointer">
            {x.method} {x.url}
          </summary>
          <pre className="code mt-2 max-h-80 overflow-auto bg-sheet p-3 whitespace-pre-wrap">{x.body}</pre>
        </details>
      ))}
    </section>
  );
}

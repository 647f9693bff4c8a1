import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { api, take, takeWith, type Schema } from "../../api/client";
import { Empty, Head, Loading, Trouble } from "../../parts/controls";
import { Money, When } from "../../parts/format";
import { Stage } from "../../parts/lamp";
import { Table, type Column } from "../../parts/table";

type Row = Schema<"OrderRow">;

const columns: Column<Row>[] = [
  { key: "number", title: "Order", cell: (o) => <span className="code font-medium">{o.number}</span>, value: (o) => o.number },
  { key: "stage", title: "Stage", cell: (o) => <Stage stage={o.stage} />, value: (o) => o.stage },
  { key: "held", title: "Held for", cell: (o) => <span className="text-caution">{o.held.join(", ")}</span>, value: (o) => o.held.join(", ") },
  { key: "channel", title: "Channel", cell: (o) => o.connection_name, value: (o) => o.connection_name },
  { key: "channel_number", title: "Their number", cell: (o) => <span className="code">{o.channel_number}</span>, value: (o) => o.channel_number },
  { key: "channel_state", title: "Their state", cell: (o) => o.channel_state, value: (o) => o.channel_state },
  { key: "buyer", title: "Buyer", cell: (o) => o.buyer, value: (o) => o.buyer },
  { key: "units", title: "Units", right: true, cell: (o) => <span className="fig">{o.units}</span>, value: (o) => o.units },
  { key: "total", title: "Total", right: true, cell: (o) => <Money minor={o.total} currency={o.currency} />, value: (o) => o.total / 100 },
  { key: "placed", title: "Placed", cell: (o) => <When at={o.placed_at} />, value: (o) => o.placed_at ?? "" },
  { key: "via", title: "Came by", hidden: true, cell: (o) => o.via, value: (o) => o.via },
];

const views = [
  ["", "All"],
  ["ready,routed,picking,packed", "To be sent"],
  ["held", "Held"],
  ["pending", "Pending"],
  ["shipped,delivered", "Sent"],
  ["cancelled,void", "Called off"],
] as const;

export default function Orders() {
  const navigate = useNavigate();
  const [params, setParams] = useSearchParams();
  const stage = params.get("stage") ?? "";
  const connection = params.get("connection") ?? "";
  const search = params.get("q") ?? "";
  const [typed, setTyped] = useState(search);
  const set = (key: string, value: string) =>
    setParams(
      (p) => {
        if (value) p.set(key, value);
        else p.delete(key);
        return p;
      },
      { replace: true },
    );
  useEffect(() => {
    if (typed === search) return;
    const timer = setTimeout(() => set("q", typed), 250);
    return () => clearTimeout(timer);
  });
  const connections = useQuery({ queryKey: ["connections"], queryFn: () => take(api.GET("/api/v1/connections")) });
  const q = useInfiniteQuery({
    queryKey: ["orders", stage, connection, search],
    initialPageParam: "",
    queryFn: ({ pageParam }) => {
      const before = new URLSearchParams(pageParam).get("before");
      return takeWith(api.GET("/api/v1/orders", { params: { query: { limit: 50, stage: stage || undefined, connection: connection || undefined, q: search || undefined, before: before ? Number(before) : undefined } } }));
    },
    getNextPageParam: (last) => last.next,
  });
  const rows = q.data?.pages.flatMap((p) => p.data) ?? [];
  return (
    <>
      <Head title="Orders" sub="Ours and the channels', newest first" />
      {q.error && <Trouble error={q.error} />}
      <Table
        name="orders"
        columns={columns}
        rows={rows}
        rowKey={(o) => o.number}
        onOpen={(o) => void navigate(`/orders/${o.number}`)}
        more={{ has: q.hasNextPage, busy: q.isFetchingNextPage, load: () => void q.fetchNextPage() }}
        tools={
          <>
            <input type="search" className="field w-64" placeholder="Number, tracking, buyer  ( / )" aria-label="Search orders" value={typed} onChange={(e) => setTyped(e.target.value)} />
            <select className="field" aria-label="Channel" value={connection} onChange={(e) => set("connection", e.target.value)}>
              <option value="">All channels</option>
              {connections.data
                ?.filter((c) => c.side === "channel")
                .map((c) => (
                  <option key={c.code} value={c.code}>
                    {c.name}
                  </option>
                ))}
            </select>
            <div role="group" aria-label="Stage" className="flex flex-wrap">
              {views.map(([value, name]) => (
                <button key={name} type="button" aria-pressed={stage === value} onClick={() => set("stage", value)} className={`border-b-2 px-2 py-1 ${stage === value ? "border-ink" : "border-transparent text-quiet hover:text-ink"}`}>
                  {name}
                </button>
              ))}
              {stage && !views.some(([v]) => v === stage) && <span className="border-b-2 border-ink px-2 py-1">{stage}</span>}
            </div>
          </>
        }
      />
      {q.isPending && <Loading />}
      {q.isSuccess && rows.length === 0 && (
        <Empty>{stage || search || connection ? "No order fits. Take a filter away to see more." : "Orders appear here a second after somebody buys. Nobody has bought yet."}</Empty>
      )}
    </>
  );
}

import { useInfiniteQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { api, takeWith } from "../../api/client";
import { Empty, Head, Loading, Sheet, Trouble } from "../../parts/controls";
import { Age, Money } from "../../parts/format";
import { partnerStops, Rail } from "../../parts/rail";
import { Table, type Column } from "../../parts/table";
import { Views } from "../../parts/views";
import { goodsText, RequestLamp, RequestSheet, type Request } from "../../shared/partners/request";

const columns: Column<Request>[] = [
  { key: "number", title: "Request", cell: (r) => <span className="code">{r.number}</span>, value: (r) => r.number },
  {
    key: "order",
    title: "Order",
    cell: (r) => (
      <Link className="code underline decoration-rule underline-offset-4 hover:decoration-ink" to={`/orders/${r.order}`}>
        {r.order}
      </Link>
    ),
    value: (r) => r.order,
  },
  { key: "partner", title: "Partner", cell: (r) => r.partner_name, value: (r) => r.partner_name },
  { key: "what", title: "What", cell: goodsText, value: goodsText },
  {
    key: "state",
    title: "Stands",
    cell: (r) => (
      <>
        <RequestLamp request={r} />
        {r.reason && <div className="text-[12px] text-quiet">{r.reason}</div>}
      </>
    ),
    value: (r) => r.state,
  },
  { key: "asked", title: "Asked", cell: (r) => <Age at={r.asked_at} never="not yet" />, value: (r) => r.asked_at ?? "" },
  { key: "heard", title: "Last heard", cell: (r) => <Age at={r.heard_at} never="nothing" />, value: (r) => r.heard_at ?? "" },
  {
    key: "cost",
    title: "Costs",
    right: true,
    cell: (r) => (r.cost ? <Money minor={r.cost} currency={r.currency} /> : null),
    value: (r) => r.cost / 100,
  },
];

const views = [
  ["waits,asked,acknowledged,partly sent,being called off", "Open"],
  ["waits", "Waiting"],
  ["sent", "Sent"],
  ["refused,called off", "Not sent"],
  ["", "All"],
] as const;

/** What partners are asked to send for us. */
export default function Requests() {
  const [params, setParams] = useSearchParams();
  const state = params.get("state") ?? views[0][0];
  const partner = params.get("partner") ?? "";
  const shown = params.get("request") ?? "";
  const q = useInfiniteQuery({
    queryKey: ["requests", state, partner],
    initialPageParam: "",
    queryFn: ({ pageParam }) =>
      takeWith(api.GET("/api/v1/requests", { params: { query: { state, partner, limit: 100, before: Number(pageParam) || undefined } } })),
    getNextPageParam: (last) => (last.next ? (new URL(last.next, location.origin).searchParams.get("before") ?? undefined) : undefined),
  });
  const rows = q.data?.pages.flatMap((p) => p.data) ?? [];
  const set = (to: Record<string, string>) => {
    const next = new URLSearchParams(params);
    for (const [k, v] of Object.entries(to))
      if (v || k === "state") next.set(k, v);
      else next.delete(k);
    setParams(next, { replace: true });
  };
  return (
    <>
      <Head title="Partners" tab="Requests" sub="What those who ship for us are asked to send" />
      <Rail label="Partners" stops={partnerStops} />
      <Trouble error={q.error} />
      <Table
        name="requests"
        columns={columns}
        rows={rows}
        rowKey={(r) => r.number}
        more={{ has: q.hasNextPage, busy: q.isFetchingNextPage, load: () => void q.fetchNextPage() }}
        onOpen={(r) => set({ request: r.number })}
        tools={<Views of={views} chosen={state} onChoose={(to) => set({ state: to })} />}
      />
      {q.isPending && <Loading />}
      {q.isSuccess && rows.length === 0 && (
        <Empty>
          {state === views[0][0] ? "No partner is asked for anything now." : "Nothing here."} A partner is asked by itself for what a plan
          sends from its place: a connection that takes requests, and whose word counts at the place.
        </Empty>
      )}
      <Sheet open={!!shown} onClose={() => set({ request: "" })} title={`Request ${shown}`}>
        {shown && <RequestSheet key={shown} number={shown} />}
      </Sheet>
    </>
  );
}

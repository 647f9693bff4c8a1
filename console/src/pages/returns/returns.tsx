import { useInfiniteQuery, useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { api, Problem, take, takeWith, type Schema } from "../../api/client";
import { Empty, Head, Loading, Trouble } from "../../parts/controls";
import { Money, When } from "../../parts/format";
import { ScanField, sound, Verdict, type Said } from "../../parts/scanner";
import { Table, type Column } from "../../parts/table";
import { Views } from "../../parts/views";
import { ReturnState } from "./state";

type Row = Schema<"Return">;

const columns: Column<Row>[] = [
  { key: "number", title: "Return", cell: (r) => <span className="code font-medium">{r.number}</span>, value: (r) => r.number },
  { key: "state", title: "State", cell: (r) => <ReturnState of={r} />, value: (r) => r.state },
  { key: "order", title: "Order", cell: (r) => <span className="code">{r.order_number}</span>, value: (r) => r.order_number },
  { key: "buyer", title: "From", cell: (r) => r.buyer, value: (r) => r.buyer },
  { key: "at", title: "Comes to", cell: (r) => r.location, value: (r) => r.location },
  {
    key: "here",
    title: "Here",
    right: true,
    cell: (r) => (
      <span className="fig">
        {r.came}
        <span className="text-quiet">/{r.units}</span>
      </span>
    ),
    value: (r) => r.came,
  },
  { key: "look", title: "To look at", right: true, cell: (r) => r.to_look_at || "", value: (r) => r.to_look_at },
  { key: "reason", title: "Reason", cell: (r) => r.reason ?? "", value: (r) => r.reason ?? "" },
  {
    key: "refund",
    title: "Given back",
    right: true,
    cell: (r) => (r.refund ? <Money minor={r.refund} currency={r.currency} /> : null),
    value: (r) => r.refund / 100,
  },
  { key: "exchange", title: "Exchange", cell: (r) => <span className="code">{r.exchange}</span>, value: (r) => r.exchange ?? "" },
  { key: "since", title: "Since", cell: (r) => <When at={r.created_at} />, value: (r) => r.created_at ?? "" },
];

const views = [
  ["announced,arrived", "Open"],
  ["settled", "Settled"],
  ["called off", "Called off"],
] as const;

/** What an open return does not have yet. */
const later = ["refund"];

export default function Returns() {
  const navigate = useNavigate();
  const [params, setParams] = useSearchParams();
  const [said, setSaid] = useState<Said | null>(null);
  const state = params.get("state") ?? views[0][0];
  const q = useInfiniteQuery({
    queryKey: ["returns", state],
    initialPageParam: "",
    queryFn: ({ pageParam }) => {
      const before = new URLSearchParams(pageParam).get("before") ?? undefined;
      return takeWith(api.GET("/api/v1/returns", { params: { query: { state, limit: 100, before } } }));
    },
    getNextPageParam: (last) => last.next,
  });
  const rows = q.data?.pages.flatMap((p) => p.data) ?? [];
  const begin = useMutation({
    mutationFn: openOrBegin,
    onSuccess: (number) => void navigate(`/returns/${number}`),
    onError: (e) => {
      setSaid({ good: false, text: e.message, expected: "an order, a tracking number of it, or a return" });
      sound(false);
    },
  });
  return (
    <>
      <Head title="Returns" />
      <div className="max-w-3xl">
        <ScanField placeholder="Scan order, parcel or return" busy={begin.isPending} onScan={(c) => begin.mutate(c)} />
        <Verdict said={said} />
      </div>
      <Trouble error={q.error} />
      <Table
        name="returns"
        columns={state === views[0][0] ? columns.filter((c) => !later.includes(c.key)) : columns}
        rows={rows}
        rowKey={(r) => r.number}
        more={{ has: q.hasNextPage, busy: q.isFetchingNextPage, load: () => void q.fetchNextPage() }}
        onOpen={(r) => void navigate(`/returns/${r.number}`)}
        tools={<Views of={views} chosen={state} onChoose={(to) => setParams({ state: to }, { replace: true })} />}
      />
      {q.isPending && <Loading />}
      {q.isSuccess && rows.length === 0 && (
        <Empty>
          {state === views[0][0]
            ? "Nothing is on its way back. Scan an order above when something of it comes."
            : "None here. A return ends when it is decided what the buyer gets back, or when it does not come."}
        </Empty>
      )}
    </>
  );
}

/** The return that a code stands for: its own, an open one of an order, or a new one of an order. */
async function openOrBegin(code: string): Promise<string> {
  const known = await take(api.GET("/api/v1/returns/{number}", { params: { path: { number: code } } })).catch((e: unknown) => {
    if (e instanceof Problem && e.status === 404) return null;
    throw e;
  });
  if (known) return known.number;
  const order = await take(api.GET("/api/v1/orders/{number}", { params: { path: { number: code } } })).catch(() => null);
  const open = order?.returns.find((r) => r.state === "announced" || r.state === "arrived");
  if (open) return open.number;
  const made = await take(
    api.POST("/api/v1/returns", { params: { header: { "Idempotency-Key": crypto.randomUUID() } }, body: { order: code } }),
  );
  return made.number;
}

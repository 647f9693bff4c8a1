import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, take, takeWith, type Schema } from "../../api/client";
import { may, meQuery } from "../../api/queries";
import { Button, Empty, Head, Loading, Sheet, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import { signed, When } from "../../parts/format";
import { partnerStops, Rail } from "../../parts/rail";
import { Table, type Column } from "../../parts/table";
import { Views } from "../../parts/views";

type Difference = Schema<"StockDifference">;

const columns: Column<Difference>[] = [
  { key: "at", title: "Seen", cell: (d) => <When at={d.at} />, value: (d) => d.at ?? "" },
  { key: "partner", title: "Partner", cell: (d) => d.partner, value: (d) => d.partner },
  {
    key: "sku",
    title: "Item",
    cell: (d) => (
      <>
        <Link className="code underline decoration-rule underline-offset-4 hover:decoration-ink" to={`/items/${encodeURIComponent(d.sku)}`}>
          {d.sku}
        </Link>{" "}
        <span className="text-quiet">{d.name}</span>
      </>
    ),
    value: (d) => d.sku,
  },
  { key: "ours", title: "Our books", right: true, cell: (d) => <span className="fig">{d.ours}</span>, value: (d) => d.ours },
  { key: "theirs", title: "They say", right: true, cell: (d) => <span className="fig">{d.theirs}</span>, value: (d) => d.theirs },
  {
    key: "by",
    title: "Difference",
    right: true,
    cell: (d) => <span className="fig">{signed(d.theirs - d.ours)}</span>,
    value: (d) => d.theirs - d.ours,
  },
  {
    key: "note",
    title: "Looked at",
    cell: (d) => (d.settled_at ? [d.settled_by, d.note].filter(Boolean).join(": ") : <span className="text-caution">nobody yet</span>),
    value: (d) => d.note ?? "",
  },
];

const views = [
  ["open", "Want a look"],
  ["all", "All"],
] as const;

/** Where the stock that partners tell was another than our books. Their word was taken. */
export default function PartnerStock() {
  const [params, setParams] = useSearchParams();
  const me = useQuery(meQuery);
  const view = params.get("view") ?? "open";
  const partner = params.get("partner") ?? "";
  const [look, setLook] = useState<Difference | null>(null);
  const q = useInfiniteQuery({
    queryKey: ["stock differences", view, partner],
    initialPageParam: 0,
    queryFn: ({ pageParam }) =>
      takeWith(
        api.GET("/api/v1/stock-differences", {
          params: { query: { open: view === "open", partner, limit: 100, before: pageParam || undefined } },
        }),
      ),
    getNextPageParam: (last) => (last.next ? (last.data[last.data.length - 1]?.id ?? 0) : undefined),
  });
  const rows = q.data?.pages.flatMap((p) => p.data) ?? [];
  return (
    <>
      <Head title="Partners" tab="Their stock" sub="Where what partners count is another than our books; their word was taken" />
      <Rail label="Partners" stops={partnerStops} />
      <Trouble error={q.error} />
      <Table
        name="stock differences"
        columns={columns}
        rows={rows}
        rowKey={(d) => String(d.id)}
        more={{ has: q.hasNextPage, busy: q.isFetchingNextPage, load: () => void q.fetchNextPage() }}
        onOpen={may(me.data, "stock") ? (d) => !d.settled_at && setLook(d) : undefined}
        tools={<Views of={views} chosen={view} onChoose={(to) => setParams({ view: to }, { replace: true })} />}
      />
      {q.isPending && <Loading />}
      {q.isSuccess && rows.length === 0 && <Empty>Their stock is as in our books.</Empty>}
      <Sheet open={!!look} onClose={() => setLook(null)} title={look ? `${look.sku} at ${look.partner}` : ""}>
        {look && <Looked key={look.id} d={look} onDone={() => setLook(null)} />}
      </Sheet>
    </>
  );
}

function Looked({ d, onDone }: { d: Difference; onDone: () => void }) {
  const client = useQueryClient();
  const [note, setNote] = useState("");
  const put = useMutation({
    mutationFn: () => take(api.POST("/api/v1/stock-differences/{id}/settle", { params: { path: { id: d.id } }, body: { note } })),
    onSuccess: () => {
      for (const key of ["stock differences", "partners", "exceptions", "causes"]) void client.invalidateQueries({ queryKey: [key] });
      onDone();
    },
  });
  return (
    <form
      className="flex flex-col gap-3"
      onSubmit={(e) => {
        e.preventDefault();
        put.mutate();
      }}
    >
      <p>
        Our books had {d.ours}, they count {d.theirs}. Their word was taken; the item&rsquo;s ledger shows it.
      </p>
      <Labelled label="Why it was so" help="What was lost, broken, found, or counted wrong.">
        <input className="field w-full" value={note} onChange={(e) => setNote(e.target.value)} />
      </Labelled>
      <Trouble error={put.error} />
      <div>
        <Button kind="main" type="submit" disabled={put.isPending}>
          It was looked at
        </Button>
      </div>
    </form>
  );
}

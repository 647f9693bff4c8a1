import { useInfiniteQuery, useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, take, takeWith, type Schema } from "../../api/client";
import { Button, Empty, Head, Loading, Sheet, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import { Kg, Money } from "../../parts/format";
import { Lamp, type LampState } from "../../parts/lamp";
import { activityStops, Rail } from "../../parts/rail";
import { Table, type Column } from "../../parts/table";
import { Views } from "../../parts/views";

type Line = Schema<"BillLine">;

const lamps: Record<Line["state"], LampState> = { agrees: "go", differs: "caution", unknown: "stop", accepted: "idle", disputed: "busy" };

const columns: Column<Line>[] = [
  {
    key: "carrier",
    title: "Carrier",
    cell: (b) => b.carrier || <span className="text-quiet">not named</span>,
    value: (b) => b.carrier ?? "",
  },
  { key: "bill", title: "Bill", cell: (b) => <span className="code">{b.bill}</span>, value: (b) => b.bill },
  { key: "number", title: "Number", cell: (b) => <span className="code">{b.number}</span>, value: (b) => b.number },
  {
    key: "parcel",
    title: "Parcel",
    cell: (b) =>
      b.parcel && (
        <Link className="code underline decoration-rule underline-offset-4 hover:decoration-ink" to={`/parcels/${b.parcel}`}>
          {b.parcel}
        </Link>
      ),
    value: (b) => b.parcel ?? "",
  },
  { key: "what", title: "What for", cell: (b) => b.what || "freight", value: (b) => b.what ?? "freight" },
  { key: "weight", title: "By", right: true, cell: (b) => (b.weight_g ? <Kg grams={b.weight_g} /> : null), value: (b) => b.weight_g ?? 0 },
  {
    key: "amount",
    title: "Amount",
    right: true,
    cell: (b) => <Money minor={b.amount} currency={b.currency} />,
    value: (b) => b.amount / 100,
  },
  {
    key: "asked",
    title: "Parcel asked",
    right: true,
    cell: (b) => (b.parcel ? <Money minor={b.asked} currency={b.currency} /> : null),
    value: (b) => b.asked / 100,
  },
  {
    key: "more",
    title: "More",
    right: true,
    cell: (b) => (b.parcel && b.billed !== b.asked ? <Money minor={b.billed - b.asked} currency={b.currency} /> : null),
    value: (b) => (b.billed - b.asked) / 100,
  },
  {
    key: "state",
    title: "Stands",
    cell: (b) => (
      <>
        <Lamp state={lamps[b.state]}>{b.state}</Lamp>
        <div className="text-[12px] text-quiet">{[b.why, b.note].filter(Boolean).join("; ")}</div>
      </>
    ),
    value: (b) => [b.state, b.why, b.note].filter(Boolean).join("; "),
  },
];

const views = [
  ["differs,unknown", "Want a look"],
  ["disputed", "Disputed"],
  ["accepted", "Accepted"],
  ["agrees", "As asked"],
] as const;

/** What carriers bill, parcel by parcel, beside what was asked when the label was bought. */
export default function Bills() {
  const [params, setParams] = useSearchParams();
  const state = params.get("state") ?? views[0][0];
  const [open, setOpen] = useState<Line | null>(null);
  const q = useInfiniteQuery({
    queryKey: ["bills", state],
    initialPageParam: 0,
    queryFn: ({ pageParam }) =>
      takeWith(api.GET("/api/v1/bills", { params: { query: { state, limit: 100, before: pageParam || undefined } } })),
    getNextPageParam: (last) => (last.next ? (last.data[last.data.length - 1]?.id ?? 0) : undefined),
  });
  const rows = q.data?.pages.flatMap((p) => p.data) ?? [];
  return (
    <>
      <Head title="Carriers' bills" sub="What was billed, beside what was asked">
        <Link className="underline decoration-rule underline-offset-4 hover:decoration-ink" to="/tables">
          Hand a bill in
        </Link>
      </Head>
      <Rail label="Activity" stops={activityStops} />
      <Trouble error={q.error} />
      <Table
        name="bills"
        columns={columns}
        rows={rows}
        rowKey={(b) => String(b.id)}
        more={{ has: q.hasNextPage, busy: q.isFetchingNextPage, load: () => void q.fetchNextPage() }}
        onOpen={setOpen}
        tools={<Views of={views} chosen={state} onChoose={(to) => setParams({ state: to }, { replace: true })} />}
      />
      {q.isPending && <Loading />}
      {q.isSuccess && rows.length === 0 && (
        <Empty>
          Nothing here. A carrier&rsquo;s bill is handed in as CSV, under Catalog, CSV: one line a parcel with its number and amount, and
          what a surcharge is for.
        </Empty>
      )}
      <Sheet open={!!open} onClose={() => setOpen(null)} title={open ? `${open.number}, ${open.what || "freight"}` : ""}>
        {open && <Decide key={open.id} line={open} onDone={() => setOpen(null)} />}
      </Sheet>
    </>
  );
}

function Decide({ line, onDone }: { line: Line; onDone: () => void }) {
  const client = useQueryClient();
  const [say, setSay] = useState({ note: line.note ?? "", parcel: line.parcel ?? "" });
  const put = useMutation({
    mutationFn: (state: "" | "accepted" | "disputed") =>
      take(
        api.POST("/api/v1/bills/{id}", {
          params: { path: { id: line.id } },
          body: { state, note: say.note, parcel: say.parcel !== line.parcel ? say.parcel : "" },
        }),
      ),
    onSuccess: () => {
      for (const key of ["bills", "exceptions", "causes"]) void client.invalidateQueries({ queryKey: [key] });
      onDone();
    },
  });
  return (
    <div className="flex flex-col gap-3">
      <p>
        Bill <span className="code">{line.bill}</span> of {line.carrier || "a carrier that is not named"}:{" "}
        <Money minor={line.amount} currency={line.currency} />
        {line.why && `, ${line.why}`}
      </p>
      <Labelled label="Parcel" help="Its number, where the carrier's is another.">
        <input className="field w-full" value={say.parcel} onChange={(e) => setSay({ ...say, parcel: e.target.value })} />
      </Labelled>
      <Labelled label="Note">
        <input className="field w-full" value={say.note} onChange={(e) => setSay({ ...say, note: e.target.value })} />
      </Labelled>
      <Trouble error={put.error} />
      <div className="flex flex-wrap gap-3">
        <Button kind="main" disabled={put.isPending} onClick={() => put.mutate("accepted")}>
          Accept it
        </Button>
        <Button disabled={put.isPending} onClick={() => put.mutate("disputed")}>
          Dispute it
        </Button>
        <Button kind="quiet" disabled={put.isPending} onClick={() => put.mutate("")}>
          Compare anew
        </Button>
      </div>
    </div>
  );
}

import { locationsQuery } from "../../api/queries";
import { useInfiniteQuery, useMutation, useQuery } from "@tanstack/react-query";
import { useState, type FormEvent, type ReactNode } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { api, take, takeWith, type Schema } from "../../api/client";
import { Choice } from "../../parts/choice";
import { Button, Empty, Head, Loading, Sheet, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import { count, When } from "../../parts/format";
import { Lamp } from "../../parts/lamp";
import { Rail, stockStops } from "../../parts/rail";
import { Table, type Column } from "../../parts/table";

function useStateChoice() {
  const [params] = useSearchParams();
  return params.get("state") ?? "";
}

export function useLocations() {
  return useQuery(locationsQuery);
}

/** A location of ours to choose. */
export function Place({ label, value, onChange }: { label: string; value: string; onChange: (code: string) => void }) {
  const places = useLocations();
  return (
    <Labelled label={label}>
      <select className="field w-full" required value={value} onChange={(e) => onChange(e.target.value)}>
        <option value="">choose</option>
        {places.data
          ?.filter((l) => !l.keeper)
          .map((l) => (
            <option key={l.code} value={l.code}>
              {l.name}
            </option>
          ))}
      </select>
    </Labelled>
  );
}

/** Lines written one to a line: how many, and SKU or GTIN. */
export function parseLines(text: string) {
  return text
    .split("\n")
    .map((l) => l.trim())
    .filter(Boolean)
    .map((l) => {
      const [n, ...rest] = l.split(/[\s×*]+/);
      return { quantity: Number(n) || 0, sku: rest.join(" ") };
    });
}

function Lines({ value, onChange }: { value: string; onChange: (t: string) => void }) {
  return (
    <Labelled label="Items" help="One to a line: how many, and SKU or GTIN. A long list goes in as CSV, under Catalog.">
      <textarea
        className="field code w-full"
        rows={5}
        required
        value={value}
        onChange={(e) => onChange(e.target.value)}
        placeholder={"30 LID-63-100\n2 SMOKER-L"}
      />
    </Labelled>
  );
}

const atOnce = 100;

/** The page after which the next begins, of the address of the next. */
const before = (next: string) => Number(new URLSearchParams(next).get("before") ?? 0) || undefined;

function Page<T>({
  title,
  sub,
  verb,
  onNew,
  rows,
  columns,
  rowKey,
  onOpen,
  error,
  pending,
  empty,
  states,
  name,
  more,
}: {
  title: string;
  sub: string;
  verb: string;
  onNew: () => void;
  rows?: T[];
  columns: Column<T>[];
  rowKey: (t: T) => string;
  onOpen: (t: T) => void;
  error: unknown;
  pending: boolean;
  empty: ReactNode;
  states: readonly string[];
  name: string;
  more: { has: boolean; busy: boolean; load: () => void };
}) {
  return (
    <>
      <Head title={title} sub={sub}>
        <Button kind="main" onClick={onNew}>
          {verb}
        </Button>
      </Head>
      <Rail label="Stock" stops={stockStops} />
      <Trouble error={error} />
      {rows && (
        <Table
          name={name}
          columns={columns}
          rows={rows}
          rowKey={rowKey}
          onOpen={onOpen}
          more={more}
          tools={<Choice name="state" label="State" options={[["", "In all states"], ...states.map((s) => [s, s] as const)]} />}
        />
      )}
      {pending && <Loading />}
      {rows?.length === 0 && <Empty>{empty}</Empty>}
    </>
  );
}

export function Receiving() {
  const navigate = useNavigate();
  const state = useStateChoice();
  const [adding, setAdding] = useState(false);
  const q = useInfiniteQuery({
    queryKey: ["purchases", state],
    initialPageParam: "",
    queryFn: ({ pageParam }) =>
      takeWith(
        api.GET("/api/v1/purchases", { params: { query: { state: state || undefined, limit: atOnce, before: before(pageParam) } } }),
      ),
    getNextPageParam: (last) => last.next,
  });
  const columns: Column<Schema<"Purchase">>[] = [
    { key: "number", title: "Purchase order", cell: (p) => <span className="code font-medium">{p.number}</span>, value: (p) => p.number },
    { key: "supplier", title: "Supplier", cell: (p) => p.supplier, value: (p) => p.supplier },
    { key: "location", title: "To", wide: true, cell: (p) => p.location_name, value: (p) => p.location_name },
    {
      key: "state",
      title: "State",
      cell: (p) => (
        <Lamp state={p.state === "closed" ? "idle" : p.received ? "busy" : "go"}>
          {p.state === "closed" ? "closed" : p.received ? "partly here" : "on its way"}
        </Lamp>
      ),
      value: (p) => p.state,
    },
    {
      key: "received",
      title: "Received",
      right: true,
      cell: (p) => <span className="fig">{`${count(p.received)} of ${count(p.ordered)}`}</span>,
      value: (p) => p.received,
    },
    {
      key: "expected",
      title: "Expected",
      wide: true,
      cell: (p) => <span className="code">{p.expected}</span>,
      value: (p) => p.expected ?? "",
    },
    { key: "made", title: "Ordered", wide: true, cell: (p) => <When at={p.created_at} />, value: (p) => p.created_at ?? "" },
  ];
  return (
    <>
      <Page
        title="Receiving"
        sub="What is ordered from suppliers, and what has come of it"
        verb="New purchase order"
        name="purchases"
        onNew={() => setAdding(true)}
        rows={q.data?.pages.flatMap((p) => p.data)}
        more={{ has: q.hasNextPage, busy: q.isFetchingNextPage, load: () => void q.fetchNextPage() }}
        columns={columns}
        rowKey={(p) => p.number}
        onOpen={(p) => void navigate(`/receiving/${p.number}`)}
        error={q.error}
        pending={q.isPending}
        states={["open", "closed"]}
        empty="No purchase order. Goods that are ordered stand here until they have come."
      />
      <Sheet open={adding} onClose={() => setAdding(false)} title="New purchase order">
        <NewPurchase />
      </Sheet>
    </>
  );
}

function NewPurchase() {
  const navigate = useNavigate();
  const [p, setP] = useState({ supplier: "", location: "", number: "", expected: "", lines: "" });
  const [key] = useState(() => crypto.randomUUID());
  const save = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/v1/purchases", {
          params: { header: { "Idempotency-Key": key + JSON.stringify(p).length } },
          body: {
            supplier: p.supplier,
            location: p.location,
            number: p.number || undefined,
            expected: p.expected || undefined,
            lines: parseLines(p.lines),
          },
        }),
      ),
    onSuccess: (x) => void navigate(`/receiving/${x.number}`),
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    save.mutate();
  };
  return (
    <form onSubmit={submit} className="grid gap-3 sm:grid-cols-2">
      <Labelled label="Supplier">
        <input className="field w-full" required autoFocus value={p.supplier} onChange={(e) => setP({ ...p, supplier: e.target.value })} />
      </Labelled>
      <Place label="To" value={p.location} onChange={(location) => setP({ ...p, location })} />
      <Labelled label="Number" help="Empty takes the next of ours.">
        <input className="field code w-full" value={p.number} onChange={(e) => setP({ ...p, number: e.target.value })} />
      </Labelled>
      <Labelled label="Expected">
        <input type="date" className="field w-full" value={p.expected} onChange={(e) => setP({ ...p, expected: e.target.value })} />
      </Labelled>
      <div className="sm:col-span-2">
        <Lines value={p.lines} onChange={(lines) => setP({ ...p, lines })} />
      </div>
      <div className="sm:col-span-2">
        <Trouble error={save.error} />
        <Button kind="main" type="submit" disabled={save.isPending}>
          Order
        </Button>
      </div>
    </form>
  );
}

export function Transfers() {
  const navigate = useNavigate();
  const state = useStateChoice();
  const [adding, setAdding] = useState(false);
  const q = useInfiniteQuery({
    queryKey: ["transfers", state],
    initialPageParam: "",
    queryFn: ({ pageParam }) =>
      takeWith(
        api.GET("/api/v1/transfers", { params: { query: { state: state || undefined, limit: atOnce, before: before(pageParam) } } }),
      ),
    getNextPageParam: (last) => last.next,
  });
  const columns: Column<Schema<"Transfer">>[] = [
    { key: "number", title: "Transfer", cell: (x) => <span className="code font-medium">{x.number}</span>, value: (x) => x.number },
    { key: "way", title: "Way", cell: (x) => `${x.from_name} → ${x.to_name}`, value: (x) => `${x.from_name} ${x.to_name}` },
    {
      key: "state",
      title: "State",
      cell: (x) => (
        <Lamp state={x.state === "closed" ? (x.lost ? "caution" : "idle") : x.state === "draft" ? "idle" : "busy"}>{x.state}</Lamp>
      ),
      value: (x) => x.state,
    },
    {
      key: "units",
      title: "Arrived",
      right: true,
      cell: (x) => <span className="fig">{`${count(x.arrived)} of ${count(x.units)}`}</span>,
      value: (x) => x.arrived,
    },
    {
      key: "lost",
      title: "Lost",
      right: true,
      cell: (x) => <span className={`fig ${x.lost ? "text-stop" : "text-quiet"}`}>{count(x.lost)}</span>,
      value: (x) => x.lost,
    },
    { key: "note", title: "Note", wide: true, cell: (x) => x.note, value: (x) => x.note ?? "" },
    { key: "made", title: "Made", wide: true, cell: (x) => <When at={x.created_at} />, value: (x) => x.created_at ?? "" },
  ];
  return (
    <>
      <Page
        title="Transfers"
        sub="Goods on their way from one location of ours to another"
        verb="New transfer"
        name="transfers"
        onNew={() => setAdding(true)}
        rows={q.data?.pages.flatMap((p) => p.data)}
        more={{ has: q.hasNextPage, busy: q.isFetchingNextPage, load: () => void q.fetchNextPage() }}
        columns={columns}
        rowKey={(x) => x.number}
        onOpen={(x) => void navigate(`/transfers/${x.number}`)}
        error={q.error}
        pending={q.isPending}
        states={["draft", "under way", "closed"]}
        empty="No transfer. What is sent from one place to another stands here until it has arrived."
      />
      <Sheet open={adding} onClose={() => setAdding(false)} title="New transfer">
        <NewTransfer />
      </Sheet>
    </>
  );
}

function NewTransfer() {
  const navigate = useNavigate();
  const [p, setP] = useState({ from: "", to: "", lines: "", note: "" });
  const save = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/v1/transfers", {
          params: { header: {} },
          body: { from: p.from, to: p.to, note: p.note || undefined, lines: parseLines(p.lines) },
        }),
      ),
    onSuccess: (x) => void navigate(`/transfers/${x.number}`),
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    save.mutate();
  };
  return (
    <form onSubmit={submit} className="grid gap-3 sm:grid-cols-2">
      <Place label="From" value={p.from} onChange={(from) => setP({ ...p, from })} />
      <Place label="To" value={p.to} onChange={(to) => setP({ ...p, to })} />
      <div className="sm:col-span-2">
        <Lines value={p.lines} onChange={(lines) => setP({ ...p, lines })} />
      </div>
      <div className="sm:col-span-2">
        <Labelled label="Note">
          <input className="field w-full" value={p.note} onChange={(e) => setP({ ...p, note: e.target.value })} />
        </Labelled>
      </div>
      <div className="sm:col-span-2">
        <Trouble error={save.error} />
        <Button kind="main" type="submit" disabled={save.isPending}>
          Prepare
        </Button>
      </div>
    </form>
  );
}

export function Counts() {
  const navigate = useNavigate();
  const state = useStateChoice();
  const [location, setLocation] = useState("");
  const [adding, setAdding] = useState(false);
  const q = useInfiniteQuery({
    queryKey: ["counts", state],
    initialPageParam: "",
    queryFn: ({ pageParam }) =>
      takeWith(api.GET("/api/v1/counts", { params: { query: { state: state || undefined, limit: atOnce, before: before(pageParam) } } })),
    getNextPageParam: (last) => last.next,
  });
  const start = useMutation({
    mutationFn: () => take(api.POST("/api/v1/counts", { params: { header: {} }, body: { location } })),
    onSuccess: (c) => void navigate(`/counts/${c.number}`),
  });
  const columns: Column<Schema<"Count">>[] = [
    { key: "number", title: "Count", cell: (c) => <span className="code font-medium">{c.number}</span>, value: (c) => c.number },
    { key: "location", title: "Location", cell: (c) => c.location_name, value: (c) => c.location_name },
    {
      key: "state",
      title: "State",
      cell: (c) => <Lamp state={c.state === "open" ? "busy" : c.state === "posted" ? "go" : "idle"}>{c.state}</Lamp>,
      value: (c) => c.state,
    },
    { key: "lines", title: "Counted", right: true, cell: (c) => <span className="fig">{count(c.counted)}</span>, value: (c) => c.counted },
    {
      key: "differ",
      title: "Differ",
      right: true,
      cell: (c) => <span className={`fig ${c.differ ? "text-caution" : "text-quiet"}`}>{count(c.differ)}</span>,
      value: (c) => c.differ,
    },
    { key: "who", title: "By", wide: true, cell: (c) => c.who, value: (c) => c.who },
    { key: "made", title: "Begun", wide: true, cell: (c) => <When at={c.created_at} />, value: (c) => c.created_at ?? "" },
  ];
  return (
    <>
      <Page
        title="Counts"
        sub="What really lies there, beside what should"
        verb="Start a count"
        name="counts"
        onNew={() => setAdding(true)}
        rows={q.data?.pages.flatMap((p) => p.data)}
        more={{ has: q.hasNextPage, busy: q.isFetchingNextPage, load: () => void q.fetchNextPage() }}
        columns={columns}
        rowKey={(c) => c.number}
        onOpen={(c) => void navigate(`/counts/${c.number}`)}
        error={q.error}
        pending={q.isPending}
        states={["open", "posted", "dropped"]}
        empty="Nothing was counted yet."
      />
      <Sheet open={adding} onClose={() => setAdding(false)} title="Start a count">
        <form
          onSubmit={(e) => {
            e.preventDefault();
            start.mutate();
          }}
          className="flex flex-col gap-3"
        >
          <Place label="Where" value={location} onChange={setLocation} />
          <Trouble error={start.error} />
          <Button kind="main" type="submit" disabled={start.isPending}>
            Count
          </Button>
        </form>
      </Sheet>
    </>
  );
}

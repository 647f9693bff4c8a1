import { causesQuery, connectionsQuery } from "../../api/queries";
import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState, type FormEvent } from "react";
import { Link, useNavigate } from "react-router";
import { api, take, takeWith, type Schema } from "../../api/client";
import { useWords } from "../../parts/address";
import { Countdown } from "../../parts/countdown";
import { Button, Empty, Head, Loading, Sheet, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import { Money, When } from "../../parts/format";
import { Stage } from "../../parts/lamp";
import { Table, type Column } from "../../parts/table";
import { SearchField } from "../../parts/searchfield";
import { ActOn } from "./act";

type Row = Schema<"OrderRow">;

const columns: Column<Row>[] = [
  { key: "number", title: "Order", cell: (o) => <span className="code font-medium">{o.number}</span>, value: (o) => o.number },
  {
    key: "stage",
    title: "Our stage",
    cell: (o) => (
      <>
        <Stage stage={o.stage} />
        {o.answer_by && <Countdown to={o.answer_by} className="ml-2" />}
      </>
    ),
    value: (o) => o.stage,
  },
  { key: "channel_state", title: "Their state", cell: (o) => o.channel_state, value: (o) => o.channel_state },
  {
    key: "held",
    title: "Held for",
    cell: (o) => <span className="text-caution">{o.held.join(", ")}</span>,
    value: (o) => o.held.join(", "),
  },
  {
    key: "channel",
    title: "Channel",
    cell: (o) => <span className="whitespace-nowrap">{o.connection_name}</span>,
    value: (o) => o.connection_name,
  },
  {
    key: "channel_number",
    title: "Their number",
    cell: (o) => <span className="code">{o.channel_number}</span>,
    value: (o) => o.channel_number,
  },
  { key: "buyer", title: "Buyer", cell: (o) => o.buyer, value: (o) => o.buyer },
  { key: "tags", title: "Tags", cell: (o) => o.tags.join(", "), value: (o) => o.tags.join(" ") },
  { key: "units", title: "Units", right: true, cell: (o) => <span className="fig">{o.units}</span>, value: (o) => o.units },
  { key: "total", title: "Total", right: true, cell: (o) => <Money minor={o.total} currency={o.currency} />, value: (o) => o.total / 100 },
  { key: "placed", title: "Placed", cell: (o) => <When at={o.placed_at} />, value: (o) => o.placed_at ?? "" },
  { key: "kind", title: "Kind", hidden: true, cell: (o) => o.kind, value: (o) => o.kind },
  { key: "assignee", title: "Looked after by", hidden: true, cell: (o) => o.assignee, value: (o) => o.assignee ?? "" },
  {
    key: "via",
    title: "Came by",
    hidden: true,
    cell: (o) => (o.typed_by ? `typed by ${o.typed_by}` : o.via),
    value: (o) => o.typed_by || o.via,
  },
];

const views = [
  ["", "All"],
  ["ready,routed,picking,packed", "To be sent"],
  ["held", "Held"],
  ["pending", "Pending"],
  ["shipped,delivered", "Sent"],
  ["cancelled,void", "Called off"],
] as const;

const kinds = ["ship", "collect", "local", "counter", "prepared", "summary"];

/** The filters beside stage, channel and words: each is a part of the address. */
const finer = ["state", "kind", "tag", "assignee", "cause", "typed", "from", "to", "customer"] as const;

const none: ReadonlySet<string> = new Set();

export default function Orders() {
  const navigate = useNavigate();
  const [params, set, setParams] = useWords();
  const stage = params.get("stage") ?? "";
  const connection = params.get("connection") ?? "";
  const search = params.get("q") ?? "";
  const [typed, setTyped] = useState(search);
  const [more, setMore] = useState(false);
  const [marked, setMarked] = useState<{ of: string; set: ReadonlySet<string> }>({ of: "", set: none });
  useEffect(() => {
    if (typed === search) return;
    const timer = setTimeout(() => set("q", typed), 250);
    return () => clearTimeout(timer);
  });
  const text = params.toString();
  const chosen = marked.of === text ? marked.set : none; // another filter, other rows: nothing is marked
  const setChosen = (to: Set<string>) => setMarked({ of: text, set: to });
  const connections = useQuery(connectionsQuery);
  const set_ = Object.fromEntries(params.entries());
  const q = useInfiniteQuery({
    queryKey: ["orders", text],
    initialPageParam: "",
    queryFn: ({ pageParam }) => {
      const before = new URLSearchParams(pageParam).get("before");
      return takeWith(
        api.GET("/api/v1/orders", {
          params: {
            query: {
              ...set_,
              customer: set_.customer ? Number(set_.customer) : undefined,
              limit: 50,
              before: before ? Number(before) : undefined,
            },
          },
        }),
      );
    },
    getNextPageParam: (last) => last.next,
  });
  const rows = q.data?.pages.flatMap((p) => p.data) ?? [];
  const fine = finer.filter((f) => params.get(f));
  return (
    <>
      <Head title="Orders" sub="Ours and the channels', newest first">
        <Link className="underline decoration-rule underline-offset-4 hover:decoration-ink" to="/type">
          Type an order
        </Link>
      </Head>
      <SavedFilters
        query={text}
        onTake={(query) => {
          const to = new URLSearchParams(query);
          setTyped(to.get("q") ?? "");
          setParams(to);
        }}
      />
      {q.error && <Trouble error={q.error} />}
      <Table
        name="orders"
        columns={columns}
        rows={rows}
        rowKey={(o) => o.number}
        onOpen={(o) => void navigate(`/orders/${encodeURIComponent(o.number)}`)}
        more={{ has: q.hasNextPage, busy: q.isFetchingNextPage, load: () => void q.fetchNextPage() }}
        mark={{ chosen, set: setChosen }}
        csvOfAll={`/api/v1/orders.csv?${text}`}
        tools={
          <>
            <SearchField of="orders" by="Number, name, SKU, tracking" value={typed} onChange={setTyped} />
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
                <button
                  key={name}
                  type="button"
                  aria-pressed={stage === value}
                  onClick={() => set("stage", value)}
                  className={`border-b-2 px-2 py-1 ${stage === value ? "border-ink" : "border-transparent text-quiet hover:text-ink"}`}
                >
                  {name}
                </button>
              ))}
              {stage && !views.some(([v]) => v === stage) && <span className="border-b-2 border-ink px-2 py-1">{stage}</span>}
            </div>
            <Button kind="quiet" aria-expanded={more} onClick={() => setMore(!more)}>
              {fine.length > 0 ? `Filters (${fine.length})` : "Filters"}
            </Button>
            {(more || fine.length > 0) && <Finer params={params} set={set} />}
          </>
        }
      />
      {q.isPending && <Loading />}
      {q.isSuccess && rows.length === 0 && (
        <Empty
          action={
            text ? (
              <Button
                onClick={() => {
                  setTyped("");
                  setParams(new URLSearchParams());
                }}
              >
                Take all filters away
              </Button>
            ) : undefined
          }
        >
          {text
            ? "No order fits. Take a filter away to see more."
            : "Orders appear here a second after somebody buys. Nobody has bought yet."}
        </Empty>
      )}
      {chosen.size > 0 && <ActOn orders={[...chosen]} onDone={() => setChosen(new Set())} />}
    </>
  );
}

function Finer({ params, set }: { params: URLSearchParams; set: (key: string, value: string) => void }) {
  const connection = params.get("connection") ?? "";
  const states = useQuery({
    queryKey: ["states", connection],
    queryFn: () => take(api.GET("/api/v1/channel-states", { params: { query: { connection: connection || undefined } } })),
  });
  const tags = useQuery({ queryKey: ["tags"], queryFn: () => take(api.GET("/api/v1/tags")) });
  const causes = useQuery(causesQuery);
  const pick = (name: string, label: string, options: readonly string[]) => (
    <select className="field" aria-label={label} value={params.get(name) ?? ""} onChange={(e) => set(name, e.target.value)}>
      <option value="">{label}</option>
      {options.map((o) => (
        <option key={o} value={o}>
          {o}
        </option>
      ))}
    </select>
  );
  return (
    <div className="flex w-full flex-wrap items-center gap-2 border-t border-rule pt-2">
      {pick("state", "Their state", states.data ?? [])}
      {pick("kind", "Kind", kinds)}
      {pick("tag", "Tag", tags.data?.map((t) => t.name) ?? [])}
      {pick("cause", "Needs a person for", causes.data?.map((c) => c.name) ?? [])}
      <select className="field" aria-label="How it came" value={params.get("typed") ?? ""} onChange={(e) => set("typed", e.target.value)}>
        <option value="">However it came</option>
        <option value="*">Typed by hand</option>
      </select>
      <label className="flex items-center gap-1 text-quiet">
        from{" "}
        <input
          type="date"
          className="field"
          aria-label="Taken in from"
          value={params.get("from") ?? ""}
          onChange={(e) => set("from", e.target.value)}
        />
      </label>
      <label className="flex items-center gap-1 text-quiet">
        to{" "}
        <input
          type="date"
          className="field"
          aria-label="Taken in to"
          value={params.get("to") ?? ""}
          onChange={(e) => set("to", e.target.value)}
        />
      </label>
      {params.get("customer") && (
        <Button kind="quiet" onClick={() => set("customer", "")}>
          One customer, take away
        </Button>
      )}
    </div>
  );
}

/** Filters kept under a name, for everybody. */
function SavedFilters({ query, onTake }: { query: string; onTake: (query: string) => void }) {
  const client = useQueryClient();
  const list = useQuery({ queryKey: ["views"], queryFn: () => take(api.GET("/api/v1/views", { params: { query: { page: "orders" } } })) });
  const [naming, setNaming] = useState(false);
  const [name, setName] = useState("");
  const done = () => void client.invalidateQueries({ queryKey: ["views"] });
  const keep = useMutation({
    mutationFn: () => take(api.PUT("/api/v1/views", { body: { page: "orders", name, query } })),
    onSuccess: () => {
      setNaming(false);
      setName("");
      done();
    },
  });
  const drop = useMutation({
    mutationFn: (id: number) => take(api.DELETE("/api/v1/views/{id}", { params: { path: { id } } })),
    onSuccess: done,
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    keep.mutate();
  };
  if ((list.data?.length ?? 0) === 0 && !query) return null;
  return (
    <div className="mb-3 flex flex-wrap items-center gap-x-4 gap-y-1">
      {list.data?.map((v) => (
        <span key={v.id} className="group inline-flex items-center">
          <button
            type="button"
            aria-pressed={v.query === query}
            onClick={() => onTake(v.query)}
            className={`border-b-2 py-0.5 ${v.query === query ? "border-ink font-medium" : "border-transparent hover:border-rule"}`}
          >
            {v.name}
          </button>
          {v.query === query && (
            <button
              type="button"
              aria-label={`Forget the filter ${v.name}`}
              className="ml-1 text-quiet hover:text-ink"
              onClick={() => drop.mutate(v.id)}
            >
              ×
            </button>
          )}
        </span>
      ))}
      {query && !list.data?.some((v) => v.query === query) && (
        <Button kind="quiet" onClick={() => setNaming(true)}>
          Keep this filter
        </Button>
      )}
      <Sheet open={naming} onClose={() => setNaming(false)} title="Keep this filter">
        <form onSubmit={submit} className="flex flex-col gap-3">
          <Labelled label="Name" help="Everybody sees it above the orders.">
            <input className="field w-full" required maxLength={60} value={name} onChange={(e) => setName(e.target.value)} autoFocus />
          </Labelled>
          <Trouble error={keep.error} />
          <Button kind="main" type="submit" disabled={keep.isPending}>
            Keep it
          </Button>
        </form>
      </Sheet>
    </div>
  );
}

import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { api, take, takeWith, type Schema } from "../../api/client";
import { Button, Cut, Empty, Head, Loading, Sheet, Trouble } from "../../parts/controls";
import { dayText, Kg, Money, When } from "../../parts/format";
import { Lamp } from "../../parts/lamp";
import { Table, type Column } from "../../parts/table";
import { Views } from "../../parts/views";
import { ActOnParcels } from "./act";
import { JourneyLamp, ParcelState } from "./state";

type Row = Schema<"Parcel">;

const columns: Column<Row>[] = [
  { key: "number", title: "Parcel", cell: (s) => <span className="code font-medium">{s.number}</span>, value: (s) => s.number },
  {
    key: "state",
    title: "State",
    cell: (s) => (s.journey ? <JourneyLamp journey={s.journey} /> : <ParcelState state={s.state} />),
    value: (s) => s.journey ?? s.state,
  },
  {
    key: "order",
    title: "Order",
    cell: (s) => (
      <span className="code">
        {s.order_number}
        {s.riders && <span className="text-quiet"> + {s.riders.length}</span>}
      </span>
    ),
    value: (s) => s.order_number,
  },
  { key: "buyer", title: "To", cell: (s) => s.buyer, value: (s) => s.buyer },
  { key: "location", title: "From", cell: (s) => s.location, value: (s) => s.location },
  { key: "units", title: "Units", right: true, cell: (s) => <span className="fig">{s.quantity}</span>, value: (s) => s.quantity },
  { key: "service", title: "Service", cell: (s) => s.service_name ?? "", value: (s) => s.service_name ?? "" },
  { key: "tracking", title: "Tracking number", cell: (s) => <span className="code">{s.tracking}</span>, value: (s) => s.tracking ?? "" },
  { key: "weight", title: "Weight", right: true, cell: (s) => (s.weight_g ? <Kg grams={s.weight_g} /> : null), value: (s) => s.weight_g },
  {
    key: "price",
    title: "Paid",
    right: true,
    cell: (s) => (s.price ? <Money minor={s.price} currency={s.currency ?? ""} /> : null),
    value: (s) => s.price / 100,
  },
  { key: "promised", title: "Promised", cell: (s) => (s.promised ? dayText(s.promised) : null), value: (s) => s.promised ?? "" },
  { key: "shipped", title: "Shipped", cell: (s) => <When at={s.shipped_at} />, value: (s) => s.shipped_at ?? "" },
];

const views = [
  ["packed,buying label", "To be sent"],
  ["shipped", "On their way"],
  ["delivered", "Delivered"],
  ["called off", "Called off"],
] as const;

/** What a parcel does not have before it has left. */
const later = ["service", "tracking", "price", "promised", "shipped"];

export default function Parcels() {
  const navigate = useNavigate();
  const [params, setParams] = useSearchParams();
  const state = params.get("state") ?? views[0][0];
  const q = useInfiniteQuery({
    queryKey: ["parcels", state],
    initialPageParam: "",
    queryFn: ({ pageParam }) => {
      const before = new URLSearchParams(pageParam).get("before") ?? undefined;
      return takeWith(api.GET("/api/v1/parcels", { params: { query: { state, limit: 100, before } } }));
    },
    getNextPageParam: (last) => last.next,
  });
  const rows = q.data?.pages.flatMap((p) => p.data) ?? [];
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const show = (to: string) => {
    setChosen(new Set());
    setParams({ state: to }, { replace: true });
  };
  return (
    <>
      <Head title="Parcels" />
      <Manifests />
      <Trouble error={q.error} />
      <Table
        name="parcels"
        columns={state === views[0][0] ? columns.filter((c) => !later.includes(c.key)) : columns}
        rows={rows}
        rowKey={(s) => s.number}
        more={{ has: q.hasNextPage, busy: q.isFetchingNextPage, load: () => void q.fetchNextPage() }}
        onOpen={(s) => void navigate(`/parcels/${s.number}`)}
        tools={<Views of={views} chosen={state} onChoose={show} />}
        mark={{ chosen, set: setChosen }}
      />
      {chosen.size > 0 && <ActOnParcels parcels={[...chosen]} state={state} onDone={() => setChosen(new Set())} />}
      {q.isPending && <Loading />}
      {q.isSuccess && rows.length === 0 && <Empty>No parcel here. One comes to be when a picked order is packed.</Empty>}
    </>
  );
}

const maxManifests = 200;

function Manifests() {
  const client = useQueryClient();
  const [ask, setAsk] = useState<Schema<"Manifest"> | null>(null);
  const [limit, setLimit] = useState(6);
  const q = useQuery({
    queryKey: ["manifests", limit],
    placeholderData: (was) => was,
    queryFn: () => take(api.GET("/api/v1/manifests", { params: { query: { limit } } })),
  });
  const close = useMutation({
    mutationFn: (id: number) => take(api.POST("/api/v1/manifests/{id}/close", { params: { path: { id } } })),
    onSuccess: () => {
      setAsk(null);
      void client.invalidateQueries({ queryKey: ["manifests"] });
    },
  });
  if (!q.data?.length) return <Trouble error={q.error} />;
  return (
    <section className="mb-6">
      <h2 className="mb-1">Manifests</h2>
      <table className="ledger">
        <tbody>
          {q.data.map((m) => (
            <tr key={m.id}>
              <td className="w-40">{m.carrier_name}</td>
              <td className="w-36">{m.place}</td>
              <td className="code w-28">{m.day}</td>
              <td>
                <Lamp state={m.state === "closed" ? "idle" : m.state === "closing" ? "busy" : "go"}>
                  {m.state === "closed" ? `closed, ${m.receipt}` : m.state}
                </Lamp>
                {m.refused ? (
                  <div>
                    <Lamp state="caution">does not come: {m.refused}</Lamp>
                  </div>
                ) : (
                  m.window && (
                    <span className="ml-2 text-quiet">
                      {m.state === "closed" ? "comes" : "asked for"} <span className="fig">{m.window}</span>
                    </span>
                  )
                )}
              </td>
              <td className="r w-28 whitespace-nowrap">
                <span className="fig">{m.parcels}</span>
                <span className="unit">parcels</span>
              </td>
              <td className="r">
                <a
                  className="underline decoration-rule underline-offset-4 hover:decoration-ink"
                  href={`/api/v1/manifests/${m.id}/manifest.pdf`}
                  target="_blank"
                  rel="noreferrer"
                >
                  Print
                </a>
                {m.state === "open" && (
                  <Button className="ml-4" onClick={() => setAsk(m)}>
                    Close the day
                  </Button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {limit < maxManifests && q.data.length >= limit && (
        <Button kind="quiet" onClick={() => setLimit(maxManifests)}>
          Show older ones
        </Button>
      )}
      <Cut shown={q.data.length} limit={maxManifests}>
        Older ones keep the addresses of their prints.
      </Cut>
      <Sheet open={ask !== null} onClose={() => setAsk(null)} title={`Close ${ask?.day} with ${ask?.carrier_name}`}>
        <p className="mb-4">
          {ask?.carrier_name} gets the list of {ask?.parcels} parcels{ask?.place && ` at ${ask.place}`} and is asked to come for them.
          Parcels shipped after this go on the next list.
        </p>
        <Trouble error={close.error} />
        <Button kind="main" onClick={() => ask && close.mutate(ask.id)} disabled={close.isPending}>
          Close the day
        </Button>
      </Sheet>
    </section>
  );
}

import { locationsQuery } from "../../api/queries";
import { useSearchText } from "../../parts/search";
import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import { api, takeWith, type Schema } from "../../api/client";
import { Choice } from "../../parts/choice";
import { Empty, Head, Loading, Trouble } from "../../parts/controls";
import { count } from "../../parts/format";
import { Rail, stockStops } from "../../parts/rail";
import { Table, type Column } from "../../parts/table";
import { SearchField } from "../../parts/searchfield";

type Row = Schema<"Level">;

const columns: Column<Row>[] = [
  { key: "sku", title: "SKU", cell: (l) => <span className="code font-medium">{l.sku}</span>, value: (l) => l.sku },
  { key: "name", title: "Item", cell: (l) => l.name, value: (l) => l.name },
  { key: "location", title: "Location", cell: (l) => l.location_name, value: (l) => l.location_name },
  { key: "bin", title: "Bin", cell: (l) => <span className="code">{l.bin}</span>, value: (l) => l.bin },
  {
    key: "on_hand",
    title: "On hand",
    right: true,
    cell: (l) => <span className={`fig ${l.on_hand < 0 ? "text-stop" : ""}`}>{count(l.on_hand)}</span>,
    value: (l) => l.on_hand,
  },
  {
    key: "allocated",
    title: "Allocated",
    right: true,
    cell: (l) => <span className={`fig ${l.allocated ? "" : "text-quiet"}`}>{count(l.allocated)}</span>,
    value: (l) => l.allocated,
  },
  {
    key: "available",
    title: "Available",
    right: true,
    cell: (l) => (
      <span className={`fig font-medium ${l.available <= 0 ? "text-stop" : l.available < 5 ? "text-caution" : ""}`}>
        {count(l.available)}
      </span>
    ),
    value: (l) => l.available,
  },
  {
    key: "coming",
    title: "Coming",
    right: true,
    cell: (l) => <span className={`fig ${l.on_order + l.in_transit ? "" : "text-quiet"}`}>{count(l.on_order + l.in_transit)}</span>,
    value: (l) => l.on_order + l.in_transit,
  },
  { key: "category", title: "Group", hidden: true, cell: (l) => l.category, value: (l) => l.category },
];

export default function Stock() {
  const navigate = useNavigate();
  const { search, typed, setTyped, params } = useSearchText();
  const location = params.get("location") ?? "";
  const state = (params.get("state") ?? "") as "" | "negative" | "short" | "low" | "coming";
  const places = useQuery(locationsQuery);
  const q = useInfiniteQuery({
    queryKey: ["stock", search, location, state],
    initialPageParam: "",
    queryFn: ({ pageParam }) =>
      takeWith(
        api.GET("/api/v1/stock", {
          params: {
            query: {
              limit: 100,
              q: search || undefined,
              location: location || undefined,
              state: state || undefined,
              after: new URLSearchParams(pageParam).get("after") ?? undefined,
            },
          },
        }),
      ),
    getNextPageParam: (last) => last.next,
  });
  const rows = q.data?.pages.flatMap((p) => p.data) ?? [];
  return (
    <>
      <Head title="Stock" sub="Each level is the sum of its ledger; open a row to see it" />
      <Rail label="Stock" stops={stockStops} />
      <Trouble error={q.error} />
      <Table
        name="stock"
        columns={columns}
        rows={rows}
        rowKey={(l) => l.sku + " " + l.location}
        onOpen={(l) => void navigate(`/items/${encodeURIComponent(l.sku)}`)}
        more={{ has: q.hasNextPage, busy: q.isFetchingNextPage, load: () => void q.fetchNextPage() }}
        tools={
          <>
            <SearchField of="stock" by="SKU, name, GTIN" value={typed} onChange={setTyped} />
            <Choice
              name="location"
              label="Location"
              options={[["", "All locations"], ...(places.data ?? []).map((p) => [p.code, p.name] as const)]}
            />
            <Choice
              name="state"
              label="State"
              options={[
                ["", "All levels"],
                ["short", "Nothing available"],
                ["low", "Under five"],
                ["negative", "Below nothing"],
                ["coming", "More is coming"],
              ]}
            />
          </>
        }
      />
      {q.isPending && <Loading />}
      {q.isSuccess && rows.length === 0 && (
        <Empty>{search || location || state ? "No level fits." : "Levels appear here with the first count or receipt."}</Empty>
      )}
    </>
  );
}

import { useInfiniteQuery } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import { api, takeWith, type Schema } from "../../api/client";
import { Empty, Head, Loading, Trouble } from "../../parts/controls";
import { Kg, Money } from "../../parts/format";
import { Table, type Column } from "../../parts/table";
import { useSearchText } from "./stock";

type Row = Schema<"StoreItem">;

const columns: Column<Row>[] = [
  { key: "sku", title: "SKU", cell: (i) => <span className="code font-medium">{i.sku}</span>, value: (i) => i.sku },
  { key: "name", title: "Item", cell: (i) => i.name, value: (i) => i.name },
  { key: "category", title: "Group", cell: (i) => i.category, value: (i) => i.category ?? "" },
  { key: "options", title: "Options", cell: (i) => <span className="text-quiet">{i.options}</span>, value: (i) => i.options ?? "" },
  { key: "gtin", title: "GTIN", cell: (i) => <span className="code">{i.gtin}</span>, value: (i) => i.gtin ?? "" },
  { key: "size", title: "Size", right: true, cell: (i) => <span className="fig">{`${i.length_mm}×${i.width_mm}×${i.height_mm}`}<span className="unit">mm</span></span>, value: (i) => `${i.length_mm}×${i.width_mm}×${i.height_mm}` },
  { key: "weight", title: "Weight", right: true, cell: (i) => <Kg grams={i.weight_g} />, value: (i) => i.weight_g },
  { key: "price", title: "Price", right: true, cell: (i) => <Money minor={i.price} currency={i.currency} />, value: (i) => i.price / 100 },
];

export default function Catalog() {
  const navigate = useNavigate();
  const { search, typed, setTyped } = useSearchText();
  const q = useInfiniteQuery({
    queryKey: ["items", search],
    initialPageParam: "",
    queryFn: ({ pageParam }) => takeWith(api.GET("/api/v1/items", { params: { query: { limit: 100, q: search || undefined, after: new URLSearchParams(pageParam).get("after") ?? undefined } } })),
    getNextPageParam: (last) => last.next,
  });
  const rows = q.data?.pages.flatMap((p) => p.data) ?? [];
  return (
    <>
      <Head title="Catalog" sub="One record per thing sold" />
      <Trouble error={q.error} />
      <Table
        name="items"
        columns={columns}
        rows={rows}
        rowKey={(i) => i.sku}
        onOpen={(i) => void navigate(`/items/${encodeURIComponent(i.sku)}`)}
        more={{ has: q.hasNextPage, busy: q.isFetchingNextPage, load: () => void q.fetchNextPage() }}
        tools={<input type="search" className="field w-64" placeholder="SKU, name, GTIN  ( / )" aria-label="Search items" value={typed} onChange={(e) => setTyped(e.target.value)} />}
      />
      {q.isPending && <Loading />}
      {q.isSuccess && rows.length === 0 && <Empty>{search ? "No item fits." : "No items yet."}</Empty>}
    </>
  );
}

import { useInfiniteQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearchParams } from "react-router";
import { api, takeWith, type Schema } from "../../api/client";
import { Choice } from "../../parts/choice";
import { Button, Empty, Head, Loading, Trouble } from "../../parts/controls";
import { Kg, Money } from "../../parts/format";
import { catalogStops, Rail } from "../../parts/rail";
import { Table, type Column } from "../../parts/table";
import { useSearchText } from "../../parts/search";
import { SearchField } from "../../parts/searchfield";

type Row = Schema<"StoreItem">;

const columns: Column<Row>[] = [
  { key: "sku", title: "SKU", cell: (i) => <span className="code font-medium">{i.sku}</span>, value: (i) => i.sku },
  { key: "name", title: "Item", cell: (i) => i.name, value: (i) => i.name },
  {
    key: "kind",
    title: "Kind",
    cell: (i) => <span className={i.kind === "stocked" ? "text-quiet" : ""}>{i.serials ? "with serials" : i.kind}</span>,
    value: (i) => i.kind,
  },
  { key: "options", title: "Options", cell: (i) => <span className="text-quiet">{i.options}</span>, value: (i) => i.options ?? "" },
  { key: "category", title: "Group", cell: (i) => i.category, value: (i) => i.category ?? "" },
  { key: "gtin", title: "GTIN", cell: (i) => <span className="code">{i.gtin}</span>, value: (i) => i.gtin ?? "" },
  { key: "family", title: "Family", hidden: true, cell: (i) => <span className="code">{i.family}</span>, value: (i) => i.family ?? "" },
  {
    key: "size",
    title: "Size",
    hidden: true,
    right: true,
    cell: (i) => (
      <span className="fig">
        {`${i.length_mm}×${i.width_mm}×${i.height_mm}`}
        <span className="unit">mm</span>
      </span>
    ),
    value: (i) => `${i.length_mm}×${i.width_mm}×${i.height_mm}`,
  },
  { key: "weight", title: "Weight", right: true, cell: (i) => <Kg grams={i.weight_g} />, value: (i) => i.weight_g },
  { key: "price", title: "Price", right: true, cell: (i) => <Money minor={i.price} currency={i.currency} />, value: (i) => i.price / 100 },
];

export default function Catalog() {
  const navigate = useNavigate();
  const { search, typed, setTyped } = useSearchText();
  const [params] = useSearchParams();
  const kind = params.get("kind") ?? "";
  const which = params.get("which") ?? "";
  const mark = params.get("mark") ?? "";
  const q = useInfiniteQuery({
    queryKey: ["items", search, kind, which, mark],
    initialPageParam: "",
    queryFn: ({ pageParam }) =>
      takeWith(
        api.GET("/api/v1/items", {
          params: {
            query: {
              limit: 100,
              q: search || undefined,
              kind: kind || undefined,
              mark: mark || undefined,
              archived: which === "archived" || undefined,
              unlisted: which === "unlisted" || undefined,
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
      <Head title="Catalog" sub="One record per thing sold">
        <Button kind="main" onClick={() => void navigate("/items/new")}>
          New item
        </Button>
      </Head>
      <Rail label="Catalog" stops={catalogStops} />
      <Trouble error={q.error} />
      <Table
        name="items"
        columns={columns}
        rows={rows}
        rowKey={(i) => i.sku}
        onOpen={(i) => void navigate(`/items/${encodeURIComponent(i.sku)}`)}
        more={{ has: q.hasNextPage, busy: q.isFetchingNextPage, load: () => void q.fetchNextPage() }}
        tools={
          <>
            <SearchField of="items" by="SKU, name, GTIN" value={typed} onChange={setTyped} />
            <Choice
              name="kind"
              label="Kind"
              options={[
                ["", "All kinds"],
                ["stocked", "Stocked"],
                ["kit", "Kits"],
                ["made to order", "Made to order"],
                ["prepared", "Prepared food"],
                ["charge", "Charges"],
              ]}
            />
            <Choice
              name="which"
              label="Which"
              options={[
                ["", "That are sold"],
                ["unlisted", "On no channel"],
                ["archived", "Archived"],
              ]}
            />
            {mark && (
              <Link className="underline decoration-rule underline-offset-4" to="/catalog">
                mark {mark} ×
              </Link>
            )}
          </>
        }
      />
      {q.isPending && <Loading />}
      {q.isSuccess && rows.length === 0 && (
        <Empty>
          {search || kind || which || mark
            ? "No item fits."
            : "No items yet. Add one, hand a CSV file in, or bring listings over from a channel."}
        </Empty>
      )}
    </>
  );
}

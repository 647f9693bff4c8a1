import { useInfiniteQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, takeWith, type Schema } from "../../api/client";
import { Empty, Head, Loading, Trouble } from "../../parts/controls";
import { When } from "../../parts/format";
import { Table, type Column } from "../../parts/table";

type Row = Schema<"Entry">;

const pages: Record<string, string> = { order: "/orders/", connection: "/connections/", item: "/items/" };

const columns: Column<Row>[] = [
  { key: "at", title: "When", cell: (e) => <When at={e.at} />, value: (e) => e.at ?? "" },
  { key: "who", title: "Who", cell: (e) => <span className="whitespace-nowrap">{e.who}</span>, value: (e) => e.who },
  {
    key: "thing",
    title: "What",
    cell: (e) => (
      <Link className="code whitespace-nowrap underline decoration-rule underline-offset-4 hover:decoration-ink" to={`${pages[e.thing] ?? "/"}${encodeURIComponent(e.name)}`}>
        {e.name}
      </Link>
    ),
    value: (e) => e.name,
  },
  { key: "text", title: "Happened", cell: (e) => e.text, value: (e) => e.text },
];

export default function Activity() {
  const q = useInfiniteQuery({
    queryKey: ["activity"],
    initialPageParam: "",
    queryFn: ({ pageParam }) => {
      const before = new URLSearchParams(pageParam).get("before");
      return takeWith(api.GET("/api/v1/activity", { params: { query: { limit: 100, before: before ? Number(before) : undefined } } }));
    },
    getNextPageParam: (last) => last.next,
  });
  const rows = q.data?.pages.flatMap((p) => p.data) ?? [];
  return (
    <>
      <Head title="Activity" sub="Everything that happened, newest first" />
      <Trouble error={q.error} />
      <Table name="activity" columns={columns} rows={rows} rowKey={(e) => String(e.id)} more={{ has: q.hasNextPage, busy: q.isFetchingNextPage, load: () => void q.fetchNextPage() }} />
      {q.isPending && <Loading />}
      {q.isSuccess && rows.length === 0 && <Empty>Nothing has happened yet.</Empty>}
    </>
  );
}

import { useInfiniteQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { api, takeWith, type Schema } from "../../api/client";
import { Choice } from "../../parts/choice";
import { Empty, Head, Loading, Trouble } from "../../parts/controls";
import { When } from "../../parts/format";
import { activityStops, Rail } from "../../parts/rail";
import { Table, type Column } from "../../parts/table";

type Row = Schema<"Entry">;

const pages: Record<string, string> = {
  order: "/orders/",
  connection: "/connections/",
  item: "/items/",
  purchase: "/receiving/",
  transfer: "/transfers/",
  count: "/counts/",
  round: "/rounds/",
};

const whats = [
  "taken in",
  "held",
  "released",
  "rule",
  "cancelled",
  "changed",
  "address",
  "picked",
  "packed",
  "shipped",
  "accepted",
  "declined",
  "voided",
  "merged",
  "tag",
  "personal data",
].map((w) => [w, w] as const);

const columns: Column<Row>[] = [
  { key: "at", title: "When", cell: (e) => <When at={e.at} />, value: (e) => e.at ?? "" },
  {
    key: "who",
    title: "Who",
    cell: (e) => (
      <Link className="whitespace-nowrap hover:underline" to={`/activity?who=${encodeURIComponent(e.who)}`}>
        {e.who}
      </Link>
    ),
    value: (e) => e.who,
  },
  {
    key: "thing",
    title: "What",
    cell: (e) =>
      e.name && pages[e.thing] ? (
        <Link
          className="code whitespace-nowrap underline decoration-rule underline-offset-4 hover:decoration-ink"
          to={`${pages[e.thing]}${encodeURIComponent(e.name)}`}
        >
          {e.name}
        </Link>
      ) : (
        <span className="text-quiet">{e.name || e.thing}</span>
      ),
    value: (e) => e.name || e.thing,
  },
  { key: "text", title: "Happened", cell: (e) => e.text, value: (e) => e.text },
];

export default function Activity() {
  const [params] = useSearchParams();
  const filter = { thing: params.get("thing") || undefined, what: params.get("what") || undefined, who: params.get("who") || undefined };
  const q = useInfiniteQuery({
    queryKey: ["activity", filter],
    initialPageParam: "",
    queryFn: ({ pageParam }) => {
      const before = new URLSearchParams(pageParam).get("before");
      return takeWith(
        api.GET("/api/v1/activity", { params: { query: { ...filter, limit: 100, before: before ? Number(before) : undefined } } }),
      );
    },
    getNextPageParam: (last) => last.next,
  });
  const rows = q.data?.pages.flatMap((p) => p.data) ?? [];
  return (
    <>
      <Head title="Activity" sub="Everything that happened, newest first" />
      <Rail label="Activity" stops={activityStops} />
      <Trouble error={q.error} />
      <Table
        tools={
          <>
            <Choice
              name="thing"
              label="Happened to"
              options={[
                ["", "To anything"],
                ["order", "To orders"],
                ["item", "To items"],
                ["connection", "To connections"],
                ["rule", "To rules"],
                ["target", "To notices"],
                ["company", "To the company"],
              ]}
            />
            <Choice name="what" label="Kind of happening" options={[["", "Whatever happened"], ...whats]} />
            {params.get("who") && (
              <Choice
                name="who"
                label="Who"
                options={[
                  ["", "By anybody"],
                  [params.get("who") ?? "", `By ${params.get("who")}`],
                ]}
              />
            )}
          </>
        }
        name="activity"
        columns={columns}
        rows={rows}
        rowKey={(e) => String(e.id)}
        more={{ has: q.hasNextPage, busy: q.isFetchingNextPage, load: () => void q.fetchNextPage() }}
      />
      {q.isPending && <Loading />}
      {q.isSuccess && rows.length === 0 && <Empty>Nothing has happened yet.</Empty>}
    </>
  );
}

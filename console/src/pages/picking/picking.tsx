import { useInfiniteQuery, useMutation } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { useNavigate } from "react-router";
import { api, take, takeWith, type Schema } from "../../api/client";
import { Button, Empty, Head, Loading, Trouble } from "../../parts/controls";
import { When } from "../../parts/format";
import { Lamp, Stage } from "../../parts/lamp";
import { LeavesBy } from "../../parts/leavesby";
import { Table, type Column } from "../../parts/table";
import { LeftOut, Rounds, useMakeRound } from "./rounds";

type Row = Schema<"OrderRow">;

/** What is to be picked, the oldest first; a scan of an order's number opens it. */
export default function Picking() {
  const navigate = useNavigate();
  const [code, setCode] = useState("");
  const [marked, setMarked] = useState<ReadonlySet<string>>(new Set());
  const { make, left } = useMakeRound();
  const orders = useInfiniteQuery({
    queryKey: ["picking"],
    initialPageParam: "",
    queryFn: ({ pageParam }) => {
      const after = Number(new URLSearchParams(pageParam).get("after") ?? 0) || undefined;
      return takeWith(
        api.GET("/api/v1/orders", {
          params: { query: { stage: "ready,routed,picking,part shipped", to_pick: true, oldest: true, limit: 100, after } },
        }),
      );
    },
    getNextPageParam: (last) => last.next,
  });
  const rows = orders.data?.pages.flatMap((p) => p.data) ?? [];
  const open = useMutation({
    mutationFn: (number: string) => take(api.POST("/api/v1/orders/{number}/pick", { params: { path: { number } } })),
    onSuccess: ({ shipment }) => void navigate(`/pick/${shipment}`),
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    if (code.trim()) open.mutate(code.trim());
  };
  const columns: Column<Row>[] = [
    { key: "number", title: "Order", cell: (o) => <span className="code font-medium">{o.number}</span>, value: (o) => o.number },
    { key: "stage", title: "Stage", cell: (o) => <Stage stage={o.stage} />, value: (o) => o.stage },
    { key: "buyer", title: "Buyer", cell: (o) => o.buyer, value: (o) => o.buyer },
    { key: "channel", title: "Channel", wide: true, cell: (o) => o.connection_name, value: (o) => o.connection_name },
    { key: "units", title: "Units", right: true, cell: (o) => <span className="fig">{o.units}</span>, value: (o) => o.units },
    { key: "leaves", title: "Leaves by", cell: (o) => <LeavesBy at={o.leaves_by} />, value: (o) => o.leaves_by ?? "" },
    { key: "placed", title: "Placed", wide: true, cell: (o) => <When at={o.placed_at} />, value: (o) => o.placed_at ?? "" },
  ];
  return (
    <>
      <Head
        title="Picking"
        sub={
          orders.data ? (
            <Lamp state={rows.length ? "busy" : "idle"}>
              {orders.hasNextPage ? `the ${rows.length} oldest of the orders to pick` : `${rows.length} orders to pick, the oldest first`}
            </Lamp>
          ) : undefined
        }
      >
        <a
          className="underline decoration-rule underline-offset-4 hover:decoration-ink"
          href="/api/v1/codes.pdf"
          target="_blank"
          rel="noreferrer"
        >
          Codes to scan
        </a>
      </Head>
      <form onSubmit={submit} className="mb-4 flex flex-wrap gap-2">
        <input
          className="field min-h-12 min-w-0 flex-1 font-mono text-[18px] sm:max-w-96"
          placeholder="Scan or type an order"
          aria-label="Order number"
          autoFocus
          value={code}
          onChange={(e) => setCode(e.target.value)}
        />
        <Button kind="main" large type="submit" disabled={open.isPending}>
          Pick
        </Button>
      </form>
      <Rounds />
      <Trouble error={open.error ?? make.error ?? orders.error} />
      {left && <LeftOut made={left} />}
      {orders.isPending && <Loading />}
      {orders.isSuccess && rows.length === 0 && <Empty>Nothing to pick. Orders stand here as soon as their stock is allocated.</Empty>}
      {rows.length > 0 && (
        <Table
          name="picking"
          columns={columns}
          rows={rows}
          rowKey={(o) => o.number}
          onOpen={(o) => open.mutate(o.number)}
          mark={{ chosen: marked, set: setMarked }}
          more={{ has: orders.hasNextPage, busy: orders.isFetchingNextPage, load: () => void orders.fetchNextPage() }}
        />
      )}
      {marked.size > 0 && (
        <div
          role="toolbar"
          aria-label="Marked orders"
          className="sticky bottom-0 z-20 mt-3 flex flex-wrap items-center gap-3 border-t border-ink bg-paper py-2"
        >
          <strong className="font-medium">{marked.size === 1 ? "1 order" : `${marked.size} orders`}</strong>
          <Button kind="main" large disabled={make.isPending || marked.size > 60} onClick={() => make.mutate({ orders: [...marked] })}>
            Pick them in one round
          </Button>
          {marked.size > 60 && <span className="text-quiet">At most 60 fit on a cart.</span>}
          <Button kind="quiet" className="ml-auto" onClick={() => setMarked(new Set())}>
            Unmark
          </Button>
        </div>
      )}
    </>
  );
}

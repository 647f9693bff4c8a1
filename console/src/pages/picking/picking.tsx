import { useMutation, useQuery } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { useNavigate } from "react-router";
import { api, take, type Schema } from "../../api/client";
import { Button, Empty, Head, Loading, Trouble } from "../../parts/controls";
import { When } from "../../parts/format";
import { Lamp, Stage } from "../../parts/lamp";
import { Table, type Column } from "../../parts/table";

type Row = Schema<"OrderRow">;

/** What is to be picked, the oldest first; a scan of an order's number opens it. */
export default function Picking() {
  const navigate = useNavigate();
  const [code, setCode] = useState("");
  const orders = useQuery({
    queryKey: ["picking"],
    queryFn: async () =>
      (await take(api.GET("/api/v1/orders", { params: { query: { stage: "ready,routed,picking", limit: 200 } } }))).reverse(),
  });
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
    { key: "placed", title: "Placed", wide: true, cell: (o) => <When at={o.placed_at} />, value: (o) => o.placed_at ?? "" },
  ];
  return (
    <>
      <Head
        title="Picking"
        sub={
          orders.data ? (
            <Lamp state={orders.data.length ? "busy" : "idle"}>{orders.data.length} orders to pick, the oldest first</Lamp>
          ) : undefined
        }
      />
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
      <Trouble error={open.error ?? orders.error} />
      {orders.isPending && <Loading />}
      {orders.data?.length === 0 && <Empty>Nothing to pick. Orders stand here as soon as their stock is allocated.</Empty>}
      {orders.data && orders.data.length > 0 && (
        <Table name="picking" columns={columns} rows={orders.data} rowKey={(o) => o.number} onOpen={(o) => open.mutate(o.number)} />
      )}
    </>
  );
}

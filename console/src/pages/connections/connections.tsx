import { connectionsQuery } from "../../api/queries";
import { useQuery } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import { type Schema } from "../../api/client";
import { Button, Empty, Head, Loading, Trouble } from "../../parts/controls";
import { Age, count } from "../../parts/format";
import { Lamp, type LampState } from "../../parts/lamp";
import { Table, type Column } from "../../parts/table";

type Row = Schema<"Connection">;

const columns: Column<Row>[] = [
  { key: "name", title: "Connection", cell: (c) => <span className="font-medium">{c.name}</span>, value: (c) => c.name },
  {
    key: "lamp",
    title: "Stands",
    cell: (c) => <Lamp state={c.lamp.state as LampState}>{c.lamp.text.length > 60 ? c.lamp.text.slice(0, 59) + "…" : c.lamp.text}</Lamp>,
    value: (c) => c.lamp.text,
  },
  { key: "side", title: "Side", cell: (c) => c.side, value: (c) => c.side },
  {
    key: "account",
    title: "Account there",
    cell: (c) => (c.account_no ? `${c.account}, ${c.account_no}` : ""),
    value: (c) => c.account_no ?? "",
    hidden: true,
  },
  { key: "title", title: "Connector", cell: (c) => c.title, value: (c) => c.title },
  {
    key: "feeds",
    title: "Feeds on",
    right: true,
    cell: (c) => <span className="fig">{`${c.feeds.filter((f) => f.on).length}/${c.feeds.length}`}</span>,
    value: (c) => c.feeds.filter((f) => f.on).length,
  },
  {
    key: "orders",
    title: "Orders today",
    right: true,
    cell: (c) => <span className="fig">{count(c.orders_today)}</span>,
    value: (c) => c.orders_today,
  },
  {
    key: "waiting",
    title: "To be sent",
    right: true,
    cell: (c) => <span className="fig">{count(c.waiting)}</span>,
    value: (c) => c.waiting,
  },
  {
    key: "refused",
    title: "Refused",
    right: true,
    cell: (c) => <span className={`fig ${c.refused ? "text-stop" : "text-quiet"}`}>{count(c.refused)}</span>,
    value: (c) => c.refused,
  },
  { key: "last", title: "Last good run", cell: (c) => <Age at={c.last_ok} />, value: (c) => c.last_ok ?? "" },
];

export default function Connections() {
  const navigate = useNavigate();
  const q = useQuery(connectionsQuery);
  if (q.isPending) return <Loading />;
  return (
    <>
      <Head title="Connections" sub="What sells, what ships, and how each line stands">
        <Button kind="main" onClick={() => void navigate("/connectors")}>
          Join a system
        </Button>
      </Head>
      <Trouble error={q.error} />
      {q.data?.length === 0 && <Empty>Nothing is joined yet. Join what sells or ships, and its orders and goods come here.</Empty>}
      <Table
        name="connections"
        columns={columns}
        rows={q.data ?? []}
        rowKey={(c) => c.code}
        onOpen={(c) => void navigate(c.state === "joining" ? `/connections/${c.code}/join` : `/connections/${c.code}`)}
      />
    </>
  );
}

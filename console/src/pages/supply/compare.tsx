import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, take } from "../../api/client";
import { Button, Empty, Head, Loading, Trouble } from "../../parts/controls";
import { count, signed, When } from "../../parts/format";
import { Lamp } from "../../parts/lamp";
import { Rail, stockStops } from "../../parts/rail";

/** What channels show beside what they should; the differences are corrected in one go. */
export default function Compare() {
  const client = useQueryClient();
  const q = useQuery({ queryKey: ["compare"], queryFn: () => take(api.GET("/api/v1/compare")) });
  const read = useMutation({
    mutationFn: () => take(api.POST("/api/v1/compare/read", { body: {} })),
    onSettled: () => void client.invalidateQueries({ queryKey: ["compare"] }),
  });
  const correct = useMutation({
    mutationFn: () => take(api.POST("/api/v1/compare/correct", { body: {} })),
    onSettled: () => void client.invalidateQueries({ queryKey: ["compare"] }),
  });
  const list = q.data?.differences ?? [];
  return (
    <>
      <Head title="Compare" sub={q.data && `${count(q.data.compared)} listings compared as they were last read`}>
        <Button onClick={() => read.mutate()} disabled={read.isPending}>
          Read all channels now
        </Button>
        <Button kind="main" disabled={list.length === 0 || correct.isPending} onClick={() => correct.mutate()}>
          {list.length ? `Correct ${count(list.length)}` : "Correct"}
        </Button>
      </Head>
      <Rail label="Stock" stops={stockStops} />
      <Trouble error={q.error ?? read.error ?? correct.error} />
      {read.data && (
        <p role="status" className="mb-3">
          <Lamp state="busy">{read.data.reading.length} channels are being read; this page follows</Lamp>
        </p>
      )}
      {correct.data && (
        <p role="status" className="mb-3">
          <Lamp state="go">{count(correct.data.corrected)} quantities are on their way</Lamp>
        </p>
      )}
      {q.isPending && <Loading />}
      {q.isSuccess && list.length === 0 && (
        <Empty>
          {q.data.compared === 0
            ? "No channel is told quantities yet."
            : "Every channel shows what it should. What somebody changes there without word of it stands here after the next reading."}
        </Empty>
      )}
      {list.length > 0 && (
        <table className="ledger">
          <thead>
            <tr>
              <th>Channel</th>
              <th>Item</th>
              <th className="r">Shows</th>
              <th className="r">Should show</th>
              <th className="r">Off by</th>
              <th>What may be behind it</th>
              <th>Seen</th>
            </tr>
          </thead>
          <tbody>
            {list.map((d) => (
              <tr key={d.connection + d.sku}>
                <td>{d.connection_name}</td>
                <td>
                  <Link className="code underline decoration-rule underline-offset-4" to={`/items/${encodeURIComponent(d.item)}`}>
                    {d.item}
                  </Link>{" "}
                  <span className="text-quiet">{d.name}</span>
                </td>
                <td className="r fig">{count(d.shows)}</td>
                <td className="r fig font-medium">{count(d.should)}</td>
                <td className="r fig text-caution">{signed(d.shows - d.should)}</td>
                <td>{d.guess}</td>
                <td>
                  <When at={d.seen_at} />
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}

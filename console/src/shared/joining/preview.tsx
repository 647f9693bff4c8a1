import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, take } from "../../api/client";
import { Button, Empty, Loading, Trouble } from "../../parts/controls";
import { count, signed, When } from "../../parts/format";

/** Side by side: what the channel shows now, and what it would show. */
export function Preview({ code, onSeen, onNext }: { code: string; onSeen: () => void; onNext?: () => void }) {
  const client = useQueryClient();
  const q = useQuery({
    queryKey: ["preview", code],
    queryFn: () => take(api.GET("/api/v1/connections/{code}/preview", { params: { path: { code } } })),
  });
  const accept = useMutation({
    mutationFn: () =>
      take(api.POST("/api/v1/connections/{code}/preview", { params: { path: { code } }, body: { digest: q.data?.digest ?? "" } })),
    onSuccess: () => onSeen(),
    onSettled: () => void client.invalidateQueries({ queryKey: ["preview"] }),
  });
  if (q.isPending) return <Loading />;
  if (q.error) return <Trouble error={q.error} />;
  const p = q.data;
  if (p.listings === 0)
    return (
      <Empty>
        No listing is known here yet. Bring the listings over with the first import; then what would change stands here, listing by listing.
      </Empty>
    );
  return (
    <>
      <p className="mb-3 max-w-prose">
        {p.changed === 0
          ? "Nothing would change: every listing shows what it should."
          : `${count(p.changed)} of ${count(p.listings)} listings would show another number.`}
        {p.to_zero > 0 && <span className="text-stop"> {count(p.to_zero)} that can be bought now would be sold out.</span>}
        {p.unknown > 0 && <span className="text-quiet"> {count(p.unknown)} are matched to no item of ours and are left alone.</span>}
      </p>
      <p className="mb-3 flex items-center gap-3">
        <Button kind="main" onClick={() => accept.mutate()} disabled={accept.isPending}>
          I have seen this
        </Button>
        {p.seen_at && (
          <span className="text-quiet">
            Seen <When at={p.seen_at} />
          </span>
        )}
        {onNext && <Button onClick={onNext}>Go on</Button>}
      </p>
      <Trouble error={accept.error} />
      <table className="ledger">
        <thead>
          <tr>
            <th>SKU</th>
            <th>Listing</th>
            <th className="r">Shows now</th>
            <th className="r">Would show</th>
            <th className="r">Change</th>
          </tr>
        </thead>
        <tbody>
          {p.rows.slice(0, 300).map((r, i) => (
            <tr key={i} className={r.matched ? "" : "text-quiet"}>
              <td className="code">{r.sku}</td>
              <td>{r.title}</td>
              <td className="r fig">{count(r.shows)}</td>
              <td className={`r fig ${r.matched && r.would === 0 && r.shows > 0 ? "text-stop" : ""}`}>
                {r.matched ? count(r.would) : "left alone"}
              </td>
              <td className="r fig text-quiet">{r.matched && r.would !== r.shows ? signed(r.would - r.shows) : ""}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {p.rows.length > 300 && <p className="mt-2 text-quiet">{count(p.rows.length - 300)} more, with smaller changes.</p>}
    </>
  );
}

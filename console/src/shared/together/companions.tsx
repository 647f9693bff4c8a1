import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, take, type Schema } from "../../api/client";
import { companionsQuery } from "../../api/queries";
import { Button, Trouble } from "../../parts/controls";

type Companion = Schema<"RelayTravelCompanion">;

/** Other open orders to the same recipient, and a way to send them together with an order. Where there is none, it shows nothing. */
export function Companions({ order, large }: { order: string; large?: boolean }) {
  const client = useQueryClient();
  const q = useQuery(companionsQuery(order));
  const onSuccess = (list: Companion[]) => {
    client.setQueryData(companionsQuery(order).queryKey, list);
    for (const key of ["order", "shipment"]) void client.invalidateQueries({ queryKey: [key] });
  };
  const join = useMutation({
    mutationFn: (other: string) =>
      take(api.POST("/api/v1/orders/{number}/together", { params: { path: { number: order } }, body: { with: [other] } })),
    onSuccess,
  });
  const part = useMutation({
    mutationFn: () => take(api.POST("/api/v1/orders/{number}/alone", { params: { path: { number: order } } })),
    onSuccess,
  });
  if (!q.data?.length) return null;
  const busy = join.isPending || part.isPending;
  return (
    <section aria-label="Travels together">
      <div className="mb-1 flex flex-wrap items-baseline justify-between gap-3">
        <h2>{q.data.some((c) => c.together) ? "Travels together" : "To the same person and address"}</h2>
        {q.data.some((c) => c.together) && (
          <Button kind="quiet" large={large} disabled={busy} onClick={() => part.mutate()}>
            Send it alone
          </Button>
        )}
      </div>
      <Trouble error={join.error ?? part.error} />
      <ul className="border-t border-ink">
        {q.data.map((c) => (
          <li key={c.order} className="flex flex-wrap items-center gap-x-4 gap-y-1 border-b border-rule py-2">
            <div className="min-w-0 flex-1">
              <Link
                to={`/orders/${c.order}`}
                className="code font-medium underline decoration-rule underline-offset-4 hover:decoration-ink"
              >
                {c.order}
              </Link>{" "}
              {c.channel}, {c.units} {c.units === 1 ? "unit" : "units"}, {c.stage}
              {!c.together && <div className="text-[12px] text-quiet">{c.reasons.join(" · ")}</div>}
              {c.together && <div className="text-quiet">in the same carton, from {c.place}</div>}
              {c.mind.map((m) => (
                <div key={m} className="border-l-4 border-caution pl-2">
                  Mind: {m}
                </div>
              ))}
              {c.why && !c.together && <div className="text-quiet">Not now: {c.why}</div>}
            </div>
            {c.together && c.shipment && large && (
              <Link
                to={`/pick/${c.shipment}`}
                className="inline-flex min-h-12 items-center underline decoration-rule underline-offset-4 hover:decoration-ink"
              >
                Pick {c.order}
              </Link>
            )}
            {!c.together && !c.why && (
              <Button large={large} aria-label={`Send together with ${c.order}`} disabled={busy} onClick={() => join.mutate(c.order)}>
                Send together
              </Button>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}

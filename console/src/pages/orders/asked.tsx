import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, take, type Schema } from "../../api/client";
import { may, meQuery } from "../../api/queries";
import { Button, Sheet, Trouble } from "../../parts/controls";
import { Money } from "../../parts/format";
import { goodsText, RequestLamp, RequestSheet, type Request } from "../../shared/partners/request";

type Order = Schema<"Order">;

const going: Order["stage"][] = ["ready", "held", "routed", "picking", "packed", "part shipped"];

/** What partners were asked to send of an order. */
export function AskedOf({ order: o }: { order: Order }) {
  const [shown, setShown] = useState("");
  const q = useQuery({
    queryKey: ["order requests", o.number, o.revision],
    queryFn: () => take(api.GET("/api/v1/orders/{number}/requests", { params: { path: { number: o.number } } })),
  });
  if (!q.data?.length) return null;
  return (
    <section aria-label="Asked of partners">
      <h2>Asked of partners</h2>
      <table className="ledger">
        <thead>
          <tr>
            <th>Request</th>
            <th>Partner</th>
            <th>Sends</th>
            <th>Stands</th>
            <th className="r">Costs</th>
          </tr>
        </thead>
        <tbody>
          {q.data.map((r) => (
            <tr key={r.number}>
              <td>
                <button
                  type="button"
                  className="code underline decoration-rule underline-offset-4 hover:decoration-ink"
                  onClick={() => setShown(r.number)}
                >
                  {r.number}
                </button>
              </td>
              <td className="font-medium">{r.partner_name}</td>
              <td>{goodsText(r)}</td>
              <td>
                <RequestLamp request={r} />
                {r.reason && <div className="text-[12px] text-quiet">{r.reason}</div>}
              </td>
              <td className="r">{!!r.cost && <Money minor={r.cost} currency={r.currency} />}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <LetSend order={o} list={q.data} />
      <Sheet open={!!shown} onClose={() => setShown("")} title={`Request ${shown}`}>
        {shown && <RequestSheet key={shown} number={shown} />}
      </Sheet>
    </section>
  );
}

/** A way back for places that refused: nothing is planned there until a person says so. */
function LetSend({ order: o, list }: { order: Order; list: Request[] }) {
  const client = useQueryClient();
  const me = useQuery(meQuery);
  const again = useMutation({
    mutationFn: (place: string) =>
      take(api.POST("/api/v1/orders/{number}/let-send", { params: { path: { number: o.number } }, body: { place } })),
    onSuccess: () => {
      for (const key of ["order", "order requests", "order plan", "orders"]) void client.invalidateQueries({ queryKey: [key] });
    },
  });
  const places = [...new Map(list.filter((r) => r.state === "refused" && !r.test).map((r) => [r.place, r.partner_name]))];
  if (!places.length || !going.includes(o.stage) || !may(me.data, "orders")) return null;
  return (
    <div className="mt-2 flex flex-wrap items-baseline gap-3">
      {places.map(([place, name]) => (
        <Button key={place} kind="quiet" disabled={again.isPending} onClick={() => again.mutate(place)}>
          Let {name} be asked again
        </Button>
      ))}
      <Trouble error={again.error} />
    </div>
  );
}

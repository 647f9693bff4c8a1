import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, take, type Schema } from "../../api/client";
import { Button, Trouble } from "../../parts/controls";

type Order = Schema<"Order">;
type Point = Schema<"MessagePickupPoint">;

const where = (p: Point) => [p.street, `${p.postcode} ${p.town}`].filter(Boolean).join(", ");

/** Where the buyer of an order fetches it, and the points that carriers have near its address. */
export function PickupPoint({ order: o }: { order: Order }) {
  const [looking, setLooking] = useState(false);
  const client = useQueryClient();
  const params = { path: { number: o.number } };
  const near = useQuery({
    queryKey: ["pickup-points", o.number],
    enabled: looking,
    queryFn: () => take(api.GET("/api/v1/orders/{number}/pickup-points", { params })),
  });
  const choose = useMutation({
    mutationFn: (p?: Point) =>
      take(api.PUT("/api/v1/orders/{number}/pickup-point", { params, body: { carrier: p?.carrier ?? "", id: p?.id ?? "" } })),
    onSuccess: () => {
      setLooking(false);
      void client.invalidateQueries();
    },
  });
  const point = o.ours.point ?? o.record.point;
  const chosen = point?.id ? point : undefined;
  const changeable = o.actions.includes("point"); // as long as something of it has not left
  if (!chosen && !changeable) return null;
  return (
    <section aria-label="Pickup point" id="point">
      <h2 className="mb-1">Pickup point</h2>
      {chosen && (
        <p>
          {chosen.name} <span className="text-quiet">{[where(chosen), chosen.hours].filter(Boolean).join("; ")}</span>
        </p>
      )}
      {changeable && (
        <p className="mt-1 flex flex-wrap gap-3">
          {!looking && <Button onClick={() => setLooking(true)}>{chosen ? "Choose another" : "Find points near its address"}</Button>}
          {chosen && (
            <Button onClick={() => choose.mutate(undefined)} disabled={choose.isPending}>
              Deliver to the door
            </Button>
          )}
          {looking && <Button onClick={() => setLooking(false)}>Close</Button>}
        </p>
      )}
      {looking && near.isPending && <p className="mt-1 text-quiet">The carriers are asked…</p>}
      {looking && near.data && <Near found={near.data} onChoose={(p) => choose.mutate(p)} waits={choose.isPending} />}
      <Trouble error={near.error ?? choose.error} />
    </section>
  );
}

function Near({ found, onChoose, waits }: { found: Schema<"RelayNearbyPoints">; onChoose: (p: Point) => void; waits: boolean }) {
  return (
    <div className="mt-2">
      {found.silent.length > 0 && <p className="text-caution">No answer from {found.silent.join(", ")}.</p>}
      {found.points.length === 0 && <p className="text-quiet">No carrier has a point near its address.</p>}
      <ul>
        {found.points.map((p) => (
          <li key={`${p.carrier} ${p.id}`} className="flex flex-wrap items-center justify-between gap-3 border-b border-rule py-1">
            <span>
              {p.name} <span className="code">{p.carrier}</span>{" "}
              <span className="text-quiet">{[where(p), p.distance_m && `${p.distance_m} m`, p.hours].filter(Boolean).join("; ")}</span>
            </span>
            <Button onClick={() => onChoose(p)} disabled={waits} aria-label={`Fetched at ${p.name}`}>
              Choose
            </Button>
          </li>
        ))}
      </ul>
    </div>
  );
}

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, take, type Schema } from "../../api/client";
import { locationsQuery, may, meQuery } from "../../api/queries";
import { Button, Trouble } from "../../parts/controls";
import { Kg, Money } from "../../parts/format";

type Order = Schema<"Order">;
type Planned = Schema<"RelayOrderPlan">;
type Entry = Schema<"RoutingEntry">;
type Units = Schema<"RoutingUnits">;

/** From which places an order is sent: what that costs, part by part, and what else there was. */
export function SentFrom({ order: o }: { order: Order }) {
  const client = useQueryClient();
  const me = useQuery(meQuery);
  const q = useQuery({
    queryKey: ["order plan", o.number, o.revision],
    queryFn: () => take(api.GET("/api/v1/orders/{number}/plan", { params: { path: { number: o.number } } })),
  });
  const replan = useMutation({
    mutationFn: (now?: boolean) =>
      take(
        api.POST("/api/v1/orders/{number}/replan", {
          params: { path: { number: o.number }, header: { "If-Match": `"${o.revision}"` } },
          body: now === undefined ? undefined : { now },
        }),
      ),
    onSuccess: () => {
      for (const key of [["order", o.number], ["order plan", o.number], ["orders"]]) void client.invalidateQueries({ queryKey: key });
    },
  });
  if (!q.data?.planned) return null;
  const open = (o.stage === "ready" || o.stage === "held") && may(me.data, "orders");
  return (
    <section aria-label="Where it is sent from">
      <div className="mb-1 flex items-baseline justify-between">
        <h2>Where it is sent from</h2>
        {open && (
          <span className="flex gap-3">
            {q.data.plan.entries.some((e) => e.later) && (
              <Button kind="quiet" disabled={replan.isPending} onClick={() => replan.mutate(true)}>
                Do not wait
              </Button>
            )}
            {q.data.now && (
              <Button kind="quiet" disabled={replan.isPending} onClick={() => replan.mutate(false)}>
                It may wait
              </Button>
            )}
            <Button kind="quiet" disabled={replan.isPending} onClick={() => replan.mutate(undefined)}>
              Plan anew
            </Button>
          </span>
        )}
      </div>
      <Trouble error={replan.error} />
      {replan.data && (
        <p role="status" className="mb-1 text-quiet">
          {replan.data.changed ? "Planned anew." : "It is planned so already."}
        </p>
      )}
      <PlanTable p={q.data} />
      <Others p={q.data} />
    </section>
  );
}

function usePlaceNames(): (code: string) => string {
  const places = useQuery(locationsQuery);
  return (code) => places.data?.find((l) => l.code === code)?.name ?? code;
}

function unitsText(list: Units[]): string {
  return list.map((u) => `${u.units} × ${u.sku}`).join(", ");
}

/** The day that lies so many days after another, YYYY-MM-DD. */
export function dayAfter(day: string, days: number): string {
  const at = new Date(`${day}T00:00:00Z`);
  at.setUTCDate(at.getUTCDate() + days);
  return at.toISOString().slice(0, 10);
}

function PlanTable({ p }: { p: Planned }) {
  const name = usePlaceNames();
  return (
    <table className="ledger">
      <thead>
        <tr>
          <th>Place</th>
          <th>Sends</th>
          <th>Arrives</th>
          <th>What it costs</th>
          <th className="r">Together</th>
        </tr>
      </thead>
      <tbody>
        {p.plan.entries.map((e) => (
          <EntryRow key={e.place} e={e} p={p} name={name(e.place)} />
        ))}
        {p.plan.waits?.map((u) => (
          <tr key={u.line}>
            <td className="text-caution">waits</td>
            <td className="fig">{unitsText([u])}</td>
            <td colSpan={2} className="text-quiet">
              No place that may send it has it free.
            </td>
            <td />
          </tr>
        ))}
        {p.plan.entries.length > 1 && (
          <tr>
            <td colSpan={4}>In {p.plan.entries.length} parts</td>
            <td className="r font-medium">
              <Money minor={p.plan.cost} currency={p.currency} />
            </td>
          </tr>
        )}
      </tbody>
    </table>
  );
}

function EntryRow({ e, p, name }: { e: Entry; p: Planned; name: string }) {
  const late = p.by >= 0 && e.arrives > p.by;
  return (
    <tr>
      <td className="font-medium whitespace-nowrap">{name}</td>
      <td>
        <span className="fig">{unitsText(e.units)}</span> <span className="text-quiet">({<Kg grams={e.weight_g} />})</span>
        {!!e.later && (
          <div className="text-caution">
            waits until {dayAfter(p.day, e.later)} for goods that are to come
            {e.held?.length ? `; ${unitsText(e.held)} kept for it` : ""}
          </div>
        )}
      </td>
      <td className={`whitespace-nowrap ${late ? "text-stop" : ""}`}>
        {e.arrives < 0 ? <span className="text-quiet">not known</span> : <span className="fig">{dayAfter(p.day, e.arrives)}</span>}
        {late && " late"}
      </td>
      <td>
        {e.terms.map((t) => (
          <div key={t.text} className="flex justify-between gap-4 text-[12px]">
            <span className="text-quiet">{t.text}</span>
            <Money minor={t.cost} currency={p.currency} />
          </div>
        ))}
      </td>
      <td className="r font-medium">
        <Money minor={e.subtotal} currency={p.currency} />
      </td>
    </tr>
  );
}

/** The runners-up, and what could not be sent from where. */
function Others({ p }: { p: Planned }) {
  const name = usePlaceNames();
  if (p.runners.length + p.bars.length === 0) return null;
  return (
    <details className="mt-2">
      <summary className="cursor-pointer text-quiet hover:text-ink">What else there was</summary>
      <ul className="mt-1 flex flex-col gap-1">
        {p.runners.map((r) => (
          <li key={r.without ?? "now"}>
            {r.now ? "Without waiting" : `Without ${name(r.without ?? "")}`}:{" "}
            {r.entries.map((e) => `${name(e.place)} sends ${unitsText(e.units)}`).join("; ")}
            {r.waits?.length ? `; ${unitsText(r.waits)} would wait` : ""}, <Money minor={r.cost} currency={p.currency} />{" "}
            <span className="text-quiet">
              ({r.cost >= p.plan.cost ? "+" : "−"}
              <Money minor={Math.abs(r.cost - p.plan.cost)} currency={p.currency} />)
            </span>
          </li>
        ))}
        {p.bars.map((b) => (
          <li key={b.place + b.why} className="text-quiet">
            Not from {name(b.place)}: {b.why}
          </li>
        ))}
      </ul>
    </details>
  );
}

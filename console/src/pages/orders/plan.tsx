import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, take, type Schema } from "../../api/client";
import { locationsQuery } from "../../api/queries";
import { Button, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import { Stepper } from "../../parts/stepper";

type Order = Schema<"Order">;
type Line = Order["lines"][number];
type Kind = Schema<"RelayHandPlan">["kind"];

/** What can be planned by hand, what is said of it, and how many units of a line it can be. */
const kinds: { kind: Kind; title: string; about: string; most: (l: Line) => number; verb: string }[] = [
  {
    kind: "keep back",
    title: "Keep back",
    about: "So many units are not sent for now; the rest goes on, also where these wait for stock. Their stock stays theirs.",
    most: (l) => l.waiting + l.allocated,
    verb: "Keep these back",
  },
  {
    kind: "move",
    title: "Send from another place",
    about: "Units that nobody has picked are sent from a place that has them free.",
    most: (l) => l.allocated,
    verb: "Send them from there",
  },
  {
    kind: "split",
    title: "Send apart",
    about: "Units that nobody has picked become a shipment of their own, picked and packed apart.",
    most: (l) => l.allocated,
    verb: "Send these apart",
  },
];

/** Changes by hand which units of an order are sent, from where and when. */
export function Plan({ order: o, onDone }: { order: Order; onDone: () => void }) {
  const client = useQueryClient();
  const places = useQuery(locationsQuery);
  const [chosen, setChosen] = useState<Kind>("keep back");
  const [units, setUnits] = useState<Record<number, number>>({});
  const [to, setTo] = useState("");
  const [reason, setReason] = useState("");
  const k = kinds.find((x) => x.kind === chosen) ?? kinds[0]!;
  const lines = o.lines.filter((l) => !l.charge && k.most(l) > 0);
  const now = (l: Line) => (chosen === "keep back" ? (l.kept_back ?? 0) : 0);
  const value = (l: Line) => units[l.id] ?? now(l);
  const changed = lines.filter((l) => value(l) !== now(l));
  const plan = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/v1/orders/{number}/plan", {
          params: { path: { number: o.number }, header: { "If-Match": `"${o.revision}"` } },
          body: {
            kind: chosen,
            lines: Object.fromEntries(changed.map((l) => [l.id, value(l)])),
            to: chosen === "move" ? to || places.data?.[0]?.code : undefined,
            reason: reason.trim() || undefined,
          },
        }),
      ),
    onSuccess: (after) => {
      client.setQueryData(["order", o.number], after);
      for (const key of ["orders", "picking", "shipment"]) void client.invalidateQueries({ queryKey: [key] });
      onDone();
    },
  });
  const choose = (kind: Kind) => {
    setChosen(kind);
    setUnits({});
    plan.reset();
  };
  return (
    <form
      className="flex flex-col gap-4"
      onSubmit={(e) => {
        e.preventDefault();
        plan.mutate();
      }}
    >
      <div className="flex flex-wrap gap-2" role="group" aria-label="What is changed">
        {kinds.map((x) => (
          <Button key={x.kind} kind={x.kind === chosen ? "main" : "plain"} aria-pressed={x.kind === chosen} onClick={() => choose(x.kind)}>
            {x.title}
          </Button>
        ))}
      </div>
      <p className="text-quiet">{k.about}</p>
      <ul className="border-t border-ink">
        {lines.map((l) => (
          <li key={l.id} className="flex items-center gap-3 border-b border-rule py-1">
            <span className="min-w-0 flex-1">
              <span className="block">{l.title}</span>
              <span className="code text-quiet">
                {l.sku} {l.at.map((a) => a.location).join(", ")}
              </span>
            </span>
            <Stepper of={l.sku} value={value(l)} most={k.most(l)} onChange={(n) => setUnits({ ...units, [l.id]: n })} />
          </li>
        ))}
      </ul>
      {lines.length === 0 && <p>Nothing of it is left to plan so: what is picked is taken back first.</p>}
      {chosen === "move" && (
        <Labelled label="From">
          <select className="field w-full" value={to || places.data?.[0]?.code} onChange={(e) => setTo(e.target.value)}>
            {places.data?.map((p) => (
              <option key={p.code} value={p.code}>
                {p.name}
              </option>
            ))}
          </select>
        </Labelled>
      )}
      <Labelled label="Why" help="For the order's timeline">
        <input className="field w-full" maxLength={200} value={reason} onChange={(e) => setReason(e.target.value)} />
      </Labelled>
      <Trouble error={plan.error ?? places.error} />
      <Button kind="main" type="submit" disabled={plan.isPending || changed.length === 0}>
        {k.verb}
      </Button>
    </form>
  );
}

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, take, type Schema } from "../../api/client";
import { locationsQuery } from "../../api/queries";
import { Button, Loading, Trouble } from "../../parts/controls";
import { Labelled, Switch } from "../../parts/fields";
import { count, minorOf, Money, typedAmount } from "../../parts/format";
import { Exceptions } from "./routingexceptions";
import { SettingsPage } from "../../shared/company/settingspage";

type Policy = Schema<"RoutingPolicy">;
type Terms = Schema<"RoutingPlaceTerms">;
type Rehearsed = Schema<"RelayRehearsed">;
type Plan = Schema<"RoutingPlan">;

const key = ["routing"];

/** From which places orders are sent. */
export default function Routing() {
  return (
    <SettingsPage
      kinds={["routing policy"]}
      title="Routing"
      sub="From which places orders are sent"
      needs="setup"
      about="From which places orders are sent"
    >
      <PolicyPart />
    </SettingsPage>
  );
}

function PolicyPart() {
  const client = useQueryClient();
  const q = useQuery({ queryKey: key, queryFn: () => take(api.GET("/api/v1/routing")) });
  const [edit, setEdit] = useState<Policy | null>(null);
  const [round, setRound] = useState(0); // fields begin anew with what is kept
  const leave = () => {
    setEdit(null);
    setRound(round + 1);
  };
  const put = useMutation({
    mutationFn: (p: Policy) => take(api.PUT("/api/v1/routing", { body: p })),
    onSuccess: (now) => {
      client.setQueryData(key, now);
      setEdit(null);
      void client.invalidateQueries({ queryKey: ["setting-changes"] });
    },
  });
  const rehearse = useMutation({ mutationFn: (p: Policy) => take(api.POST("/api/v1/routing/rehearse", { body: p })) });
  if (q.isPending) return <Loading />;
  if (!q.data) return <Trouble error={q.error} />;
  const p = edit ?? q.data.policy;
  const set = (to: Partial<Policy>) => setEdit({ ...p, ...to });
  return (
    <>
      <form
        aria-label="What is weighed"
        onSubmit={(e) => {
          e.preventDefault();
          put.mutate(p);
        }}
      >
        <h2>What is weighed</h2>
        <p className="mb-3 max-w-prose text-quiet">
          Of the ways to send an order, those that send most of it are looked at, and of them the cheapest is taken: freight by the tariffs
          that carriers publish, and what is said here. What somebody has begun on stays as it is.
        </p>
        <Weights p={p} set={set} currency={q.data.currency} />
        <PlacesTable p={p} set={set} currency={q.data.currency} />
        <Exceptions key={round} p={p} set={set} currency={q.data.currency} />
        <Trouble error={put.error} />
        <div className="mt-3 flex gap-4">
          <Button kind="main" type="submit" disabled={!edit || put.isPending}>
            Keep
          </Button>
          {edit && (
            <Button kind="quiet" onClick={leave}>
              Leave it as it was
            </Button>
          )}
        </div>
      </form>
      <section aria-label="Rehearsal">
        <div className="mb-1 flex items-baseline justify-between">
          <h2>On past orders</h2>
          <Button onClick={() => rehearse.mutate(p)} disabled={rehearse.isPending}>
            {edit ? "Rehearse what is typed" : "Rehearse"}
          </Button>
        </div>
        <p className="mb-2 max-w-prose text-quiet">
          How the newest 2,000 orders that had a choice would have been sent, with what was free and what carriers asked then. Nothing is
          changed by it.
        </p>
        <Trouble error={rehearse.error} />
        {rehearse.data && <Outcome r={rehearse.data} />}
      </section>
      <Anew />
    </>
  );
}

/** Amounts as people type them; what is no amount is none. */
function AmountField({
  label,
  help,
  value,
  currency,
  onChange,
}: {
  label: string;
  help?: string;
  value?: number;
  currency: string;
  onChange: (minor: number) => void;
}) {
  return (
    <Labelled label={label} help={help}>
      <Amount label={label} value={value} currency={currency} onChange={onChange} />
    </Labelled>
  );
}

function Amount({
  label,
  value,
  currency,
  onChange,
}: {
  label: string;
  value?: number;
  currency: string;
  onChange: (minor: number) => void;
}) {
  const [typed, setTyped] = useState(value ? typedAmount(value, currency) : "");
  const shown = minorOf(typed || "0", currency) === (value ?? 0) ? typed : value ? typedAmount(value, currency) : "";
  return (
    <input
      className="field fig w-24 text-right"
      inputMode="decimal"
      pattern="[0-9]+([.,][0-9]+)?"
      aria-label={label}
      placeholder="0"
      value={shown}
      onChange={(e) => {
        setTyped(e.target.value);
        const minor = minorOf(e.target.value || "0", currency);
        if (!Number.isNaN(minor)) onChange(minor);
      }}
    />
  );
}

function Weights({ p, set, currency }: { p: Policy; set: (to: Partial<Policy>) => void; currency: string }) {
  return (
    <div className="mb-4 flex flex-wrap items-start gap-x-8 gap-y-3">
      <div className="flex w-44 flex-col gap-2">
        <span>{p.on ? "What costs least is taken" : "The first place of the channel's list that has all is taken"}</span>
        <Switch on={!!p.on} onChange={(on) => set({ on })} label="Take what costs least" />
      </div>
      <AmountField
        label={`A parcel, ${currency}`}
        help="Carton, filling, hands; beside its freight."
        value={p.parcel}
        currency={currency}
        onChange={(parcel) => set({ parcel })}
      />
      <AmountField
        label={`A day sooner, ${currency}`}
        help="What it is worth to the buyer."
        value={p.day}
        currency={currency}
        onChange={(day) => set({ day })}
      />
      <AmountField
        label={`A day late, ${currency}`}
        help="After the day that was promised."
        value={p.late_day}
        currency={currency}
        onChange={(late_day) => set({ late_day })}
      />
      <Labelled label="Places for an order" help="At most; empty: no bound.">
        <Whole label="Places for an order" value={p.most_places} onChange={(most_places) => set({ most_places })} most={20} />
      </Labelled>
      <AmountField
        label={`100 km, ${currency}`}
        help="To the address, for each parcel, beside its freight."
        value={p.km_100}
        currency={currency}
        onChange={(km_100) => set({ km_100 })}
      />
      <Labelled label="Days to wait" help="For goods that are to come, where that costs less; empty: none.">
        <Whole label="Days to wait" value={p.most_wait} onChange={(most_wait) => set({ most_wait })} most={60} />
      </Labelled>
      <Labelled label="Kept for urgent orders, %" help="Of what lies at a place; empty: nothing.">
        <Whole
          label="Kept for urgent orders, %"
          value={p.urgent?.share}
          onChange={(share) => set({ urgent: share ? { days: p.urgent?.days ?? 1, share } : undefined })}
          most={100}
        />
      </Labelled>
      {p.urgent && (
        <Labelled label="Urgent are those promised" help="Within so many days.">
          <Whole
            label="Urgent are those promised"
            value={p.urgent.days}
            onChange={(days) => set({ urgent: { share: p.urgent?.share ?? 1, days } })}
            most={60}
          />
        </Labelled>
      )}
    </div>
  );
}

function Whole({ label, value, onChange, most }: { label: string; value?: number; onChange: (n: number) => void; most: number }) {
  return (
    <input
      className="field fig w-20 text-right"
      type="number"
      min={0}
      max={most}
      aria-label={label}
      placeholder="0"
      value={value || ""}
      onChange={(e) => onChange(Number(e.target.value))}
    />
  );
}

function PlacesTable({ p, set, currency }: { p: Policy; set: (to: Partial<Policy>) => void; currency: string }) {
  const places = useQuery(locationsQuery);
  const change = (code: string, to: Partial<Terms>) => set({ places: { ...p.places, [code]: { ...p.places?.[code], ...to } } });
  return (
    <table className="ledger">
      <thead>
        <tr>
          <th>Place</th>
          <th className="r">An order there, {currency}</th>
          <th className="r">Each unit, {currency}</th>
          <th className="r">Keeps of each item</th>
          <th className="r">Orders a day</th>
          <th>Does not send</th>
        </tr>
      </thead>
      <tbody>
        {places.data?.map((l) => {
          const t = p.places?.[l.code] ?? {};
          return (
            <tr key={l.code}>
              <td className="align-middle font-medium whitespace-nowrap">{l.name}</td>
              <td className="r">
                <Amount
                  label={`An order at ${l.name}`}
                  value={t.order}
                  currency={currency}
                  onChange={(order) => change(l.code, { order })}
                />
              </td>
              <td className="r">
                <Amount label={`A unit at ${l.name}`} value={t.unit} currency={currency} onChange={(unit) => change(l.code, { unit })} />
              </td>
              <td className="r">
                <Whole label={`${l.name} keeps`} value={t.keep} onChange={(keep) => change(l.code, { keep })} most={1000000} />
              </td>
              <td className="r">
                <Whole label={`${l.name}, a day`} value={t.per_day} onChange={(per_day) => change(l.code, { per_day })} most={1000000} />
              </td>
              <td>
                <Marks label={`${l.name} does not send`} value={t.cannot ?? []} onChange={(cannot) => change(l.code, { cannot })} />
              </td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}

/** Marks of items, by comma. */
function Marks({ label, value, onChange }: { label: string; value: string[]; onChange: (marks: string[]) => void }) {
  const [typed, setTyped] = useState(value.join(", "));
  const read = (text: string) =>
    text
      .split(",")
      .map((x) => x.trim())
      .filter(Boolean);
  const shown = read(typed).join(",") === value.join(",") ? typed : value.join(", ");
  return (
    <input
      className="field w-full"
      aria-label={label}
      placeholder="marks of items; serials, abroad"
      value={shown}
      onChange={(e) => {
        setTyped(e.target.value);
        onChange(read(e.target.value));
      }}
    />
  );
}

function Outcome({ r }: { r: Rehearsed }) {
  if (r.orders === 0)
    return <p className="text-quiet">No order has been planned yet: switch it on, and what comes in is kept with its plan.</p>;
  const codes = [...new Set([...Object.keys(r.was.places), ...Object.keys(r.now.places)])].sort();
  const rows: [string, number, number][] = [
    [r.promised ? `Late, of ${count(r.promised)} with a promised day` : "Late; no day was promised to any", r.was.late, r.now.late],
    ["Sent from several places", r.was.split, r.now.split],
    ["Something waits", r.was.waits, r.now.waits],
    ["Waits for goods to come", r.was.later, r.now.later],
    ...codes.map((c): [string, number, number] => [`From ${c}`, r.was.places[c] ?? 0, r.now.places[c] ?? 0]),
  ];
  return (
    <>
      <table className="ledger mb-4 max-w-2xl">
        <thead>
          <tr>
            <th>{count(r.orders)} orders</th>
            <th className="r">Were</th>
            <th className="r">Would be</th>
          </tr>
        </thead>
        <tbody>
          <tr>
            <td>What they cost</td>
            <td className="r">
              <Money minor={r.was.cost} currency={r.currency} />
            </td>
            <td className="r">
              <Money minor={r.now.cost} currency={r.currency} />
            </td>
          </tr>
          {rows.map(([name, was, now]) => (
            <tr key={name}>
              <td>{name}</td>
              <td className="r fig">{count(was)}</td>
              <td className={`r fig ${was === now ? "" : "font-semibold"}`}>{count(now)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <Changed r={r} />
    </>
  );
}

function Changed({ r }: { r: Rehearsed }) {
  if (r.changed === 0) return <p className="text-quiet">All of them would be sent as they were.</p>;
  return (
    <>
      <h3 className="mb-1">
        {count(r.changed)} {r.changed === 1 ? "order" : "orders"} would be sent otherwise
      </h3>
      <table className="ledger">
        <thead>
          <tr>
            <th>Order</th>
            <th>Was sent</th>
            <th className="r">For</th>
            <th>Would be sent</th>
            <th className="r">For</th>
          </tr>
        </thead>
        <tbody>
          {r.list.map((x) => (
            <tr key={x.order}>
              <td>
                <Link to={`/orders/${x.order}`} className="code underline decoration-rule underline-offset-4 hover:decoration-ink">
                  {x.order}
                </Link>
              </td>
              <td>{planText(x.was)}</td>
              <td className="r">
                <Money minor={x.was.cost} currency={r.currency} />
              </td>
              <td>{planText(x.now)}</td>
              <td className="r">
                <Money minor={x.now.cost} currency={r.currency} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {r.changed > r.list.length && (
        <p className="mt-1 text-quiet">and {count(r.changed - r.list.length)} more, of which less is saved or lost</p>
      )}
    </>
  );
}

function planText(p: Plan): string {
  const units = (list: Schema<"RoutingUnits">[]) => list.map((u) => `${u.units} × ${u.sku}`).join(", ");
  const parts = p.entries.map((e) => `${e.place}${e.later ? ` in ${e.later} days` : ""}: ${units(e.units)}`);
  if (p.waits?.length) parts.push(`waits: ${units(p.waits)}`);
  return parts.join("; ") || "nothing";
}

/** Orders that nobody has begun on are planned anew, where a place closes or the policy has changed. */
function Anew() {
  const places = useQuery(locationsQuery);
  const [place, setPlace] = useState("");
  const [reason, setReason] = useState("");
  const replan = useMutation({
    mutationFn: () => take(api.POST("/api/v1/routing/replan", { body: { place: place || undefined, reason: reason.trim() || undefined } })),
  });
  return (
    <form
      aria-label="Plan anew"
      onSubmit={(e) => {
        e.preventDefault();
        replan.mutate();
      }}
    >
      <h2>Plan anew</h2>
      <p className="mb-2 max-w-prose text-quiet">
        Orders to which a place has promised something and which nobody has begun to pick are planned by what is weighed now, oldest first.
        What came of it stands under Activity.
      </p>
      <div className="flex flex-wrap items-end gap-4">
        <Labelled label="Of which place">
          <select className="field" value={place} onChange={(e) => setPlace(e.target.value)}>
            <option value="">all places</option>
            {places.data?.map((l) => (
              <option key={l.code} value={l.code}>
                {l.name}
              </option>
            ))}
          </select>
        </Labelled>
        <Labelled label="Why">
          <input
            className="field w-64"
            maxLength={200}
            value={reason}
            onChange={(e) => setReason(e.target.value)}
            placeholder="closed until Monday"
          />
        </Labelled>
        <Button type="submit" disabled={replan.isPending}>
          Plan these anew
        </Button>
      </div>
      <Trouble error={replan.error} />
      {replan.data && (
        <p role="status" className="mt-1 text-quiet">
          Under way.
        </p>
      )}
    </form>
  );
}

import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, take, type Schema } from "../../api/client";
import { Button, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import { count, decimal, minorOf, Money, typedAmount } from "../../parts/format";
import { RowTable } from "../../shared/company/rowtable";
import { SettingsPage } from "../../shared/company/settingspage";
import { WhenField, WhenText } from "../../shared/rules/when";

type Rule = Schema<"FreightChargeRule">;
type Rehearsed = Schema<"RelayChargesRehearsed">;

/** What is charged for parcels, against what their carriers ask. */
export default function Freight() {
  return (
    <SettingsPage
      kinds={["freight rules"]}
      title="Freight"
      sub="What is charged for parcels, against what carriers ask"
      needs="setup"
      about="What is charged for parcels"
    >
      <Rules />
      <Rehearsal />
    </SettingsPage>
  );
}

const actions = [
  ["mark up", "mark it up"],
  ["discount", "take some off"],
  ["add", "add an amount"],
  ["fix", "fix it at an amount"],
  ["waive", "charge nothing"],
] as const;

function does(r: Rule): string {
  const percent = `${(r.permille ?? 0) / 10} %`;
  const amount = r.currency ? `${decimal(r.amount ?? 0, r.currency)} ${r.currency}` : "";
  return { "mark up": `plus ${percent}`, discount: `less ${percent}`, add: `plus ${amount}`, fix: amount, waive: "nothing" }[r.do];
}

function Rules() {
  return (
    <RowTable<Rule>
      name="freight-rules"
      ordered
      texts={{
        title: "Freight rules",
        about:
          "Looked at from the top when a label is bought; the first that fits counts. Where none fits, what the carrier asks is charged.",
        add: "Add a rule",
        none: "No rule yet: what the carrier asks is what is charged.",
        one: "A freight rule",
      }}
      columns={[
        { title: "Rule", cell: (r) => r.name },
        { title: "When", cell: (r) => <WhenText when={r.when ?? ""} /> },
        {
          title: "Service",
          cell: (r) => (r.service ? <span className="code">{r.service}</span> : <span className="text-quiet">any</span>),
        },
        { title: "Charged", cell: (r) => does(r) },
      ]}
      nameOf={(r) => r.name}
      blank={{ name: "", do: "mark up" }}
      get={() => take(api.GET("/api/v1/freight-rules"))}
      put={(rows) => take(api.PUT("/api/v1/freight-rules", { body: { rows } }))}
      fields={[
        { key: "name", label: "Name", required: true },
        { key: "service", label: "Service", help: "Its code, or carrier/code; empty: any." },
        { key: "do", label: "What is charged", kind: "choice", options: actions, required: true },
      ]}
      more={(r, set) => (
        <>
          <Charge r={r} set={set} />
          <WhenField value={r.when ?? ""} onChange={(when) => set({ when })} always="For every order" />
        </>
      )}
    />
  );
}

/** How much: a share of what the carrier asks, or an amount. */
function Charge({ r, set }: { r: Rule; set: (to: Partial<Rule>) => void }) {
  const [typed, setTyped] = useState(r.amount ? typedAmount(r.amount, r.currency ?? "EUR") : "");
  if (r.do === "waive") return null;
  if (r.do === "mark up" || r.do === "discount") {
    return (
      <Labelled label="Per cent" help="Of what the carrier asks.">
        <input
          className="field fig w-full"
          type="number"
          min={0.1}
          max={1000}
          step={0.1}
          required
          value={r.permille ? r.permille / 10 : ""}
          onChange={(e) => set({ permille: Math.round(Number(e.target.value) * 10), amount: 0, currency: "" })}
        />
      </Labelled>
    );
  }
  const take = (text: string, currency: string) => {
    const minor = minorOf(text, currency);
    set({ amount: Number.isNaN(minor) ? 0 : minor, currency, permille: 0 });
  };
  return (
    <>
      <Labelled label="Amount">
        <input
          className="field fig w-full"
          inputMode="decimal"
          pattern="[0-9]+([.,][0-9]+)?"
          placeholder="4.90"
          required
          value={typed}
          onChange={(e) => {
            setTyped(e.target.value);
            take(e.target.value, r.currency ?? "");
          }}
        />
      </Labelled>
      <Labelled label="Currency">
        <input
          className="field w-full"
          required
          maxLength={3}
          value={r.currency ?? ""}
          onChange={(e) => take(typed, e.target.value.toUpperCase())}
        />
      </Labelled>
    </>
  );
}

/** What the rules as they stand would have charged for parcels that left. */
function Rehearsal() {
  const run = useMutation({
    mutationFn: async () => {
      const now = await take(api.GET("/api/v1/freight-rules"));
      return take(api.POST("/api/v1/freight-rules/rehearse", { body: { rows: now.rows ?? [] } }));
    },
  });
  return (
    <section aria-label="Rehearsal">
      <div className="mb-1 flex items-baseline justify-between">
        <h2>On parcels that left</h2>
        <Button onClick={() => run.mutate()} disabled={run.isPending}>
          Rehearse the rules
        </Button>
      </div>
      <p className="mb-2 max-w-prose text-quiet">
        What the rules would have charged for the newest 500 parcels that left. Nothing is changed by it.
      </p>
      <Trouble error={run.error} />
      {run.data && <Outcome r={run.data} />}
    </section>
  );
}

function Outcome({ r }: { r: Rehearsed }) {
  return (
    <>
      {r.sums?.map((s) => (
        <p key={s.currency} className="mb-1">
          {count(r.parcels)} parcels: carriers asked <Money minor={s.asked} currency={s.currency} />, charged was{" "}
          <Money minor={s.was} currency={s.currency} />, would be <Money minor={s.would} currency={s.currency} />
        </p>
      ))}
      {!!r.changed?.length && (
        <table className="ledger">
          <thead>
            <tr>
              <th>Parcel</th>
              <th>Order</th>
              <th>Service</th>
              <th className="r">Asked</th>
              <th className="r">Was</th>
              <th className="r">Would be</th>
              <th>By</th>
            </tr>
          </thead>
          <tbody>
            {r.changed.slice(0, 100).map((x) => (
              <tr key={x.parcel}>
                <td className="code">{x.parcel}</td>
                <td className="code">{x.order_number}</td>
                <td>{x.service}</td>
                <td className="r">
                  <Money minor={x.asked} currency={x.currency} />
                </td>
                <td className="r">
                  <Money minor={x.was} currency={x.currency} />
                </td>
                <td className="r">
                  <Money minor={x.would} currency={x.currency} />
                </td>
                <td>{x.by}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {(r.changed?.length ?? 0) > 100 && <p className="mt-1 text-quiet">and {count((r.changed?.length ?? 0) - 100)} more</p>}
    </>
  );
}

import { useState } from "react";
import type { Schema } from "../../api/client";
import { Button } from "../../parts/controls";
import { Switch } from "../../parts/fields";
import { minorOf, typedAmount } from "../../parts/format";

type Policy = Schema<"RoutingPolicy">;
type Exception = Schema<"RoutingException">;

/** What is weighed otherwise for the orders that a rule names; what is left empty is as in the policy. */
export function Exceptions({ p, set, currency }: { p: Policy; set: (to: Partial<Policy>) => void; currency: string }) {
  const [name, setName] = useState("");
  const list = Object.entries(p.exceptions ?? {}).sort(([a], [b]) => a.localeCompare(b));
  const change = (of: string, to: Partial<Exception>) => set({ exceptions: { ...p.exceptions, [of]: { ...p.exceptions?.[of], ...to } } });
  const remove = (of: string) => set({ exceptions: Object.fromEntries(list.filter(([n]) => n !== of)) });
  const add = () => {
    const of = name.trim();
    if (of && !p.exceptions?.[of]) change(of, {});
    setName("");
  };
  return (
    <section aria-label="Exceptions" className="mt-5">
      <h2>Exceptions by rule</h2>
      <p className="mb-2 max-w-prose text-quiet">
        A rule plans its orders by one of these: <span className="code">weigh("{list[0]?.[0] ?? "express"}")</span>. What is left empty is
        as above.
      </p>
      {list.length > 0 && (
        <table className="ledger mb-2">
          <thead>
            <tr>
              <th>Exception</th>
              <th className="r">A day sooner, {currency}</th>
              <th className="r">A day late, {currency}</th>
              <th className="r">100 km, {currency}</th>
              <th className="r">Places</th>
              <th className="r">Days to wait</th>
              <th>Urgent</th>
              <th>Not from</th>
              <th>
                <span className="sr-only">What can be done</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {list.map(([of, e]) => (
              <tr key={of}>
                <td className="align-middle font-medium">
                  {of}
                  {Object.keys(e.places ?? {}).length > 0 && (
                    <div className="text-[12px] font-normal text-quiet">
                      other terms at {Object.keys(e.places ?? {}).join(", ")}, by the command line or a set-up text
                    </div>
                  )}
                </td>
                <OptionalAmount label={`A day sooner, ${of}`} value={e.day} currency={currency} onChange={(day) => change(of, { day })} />
                <OptionalAmount
                  label={`A day late, ${of}`}
                  value={e.late_day}
                  currency={currency}
                  onChange={(late_day) => change(of, { late_day })}
                />
                <OptionalAmount
                  label={`100 km, ${of}`}
                  value={e.km_100}
                  currency={currency}
                  onChange={(km_100) => change(of, { km_100 })}
                />
                <OptionalWhole
                  label={`Places, ${of}`}
                  value={e.most_places}
                  most={20}
                  onChange={(most_places) => change(of, { most_places })}
                />
                <OptionalWhole
                  label={`Days to wait, ${of}`}
                  value={e.most_wait}
                  most={60}
                  onChange={(most_wait) => change(of, { most_wait })}
                />
                <td className="align-middle">
                  <Switch on={!!e.urgent} onChange={(urgent) => change(of, { urgent })} label={`Urgent, ${of}`} />
                </td>
                <td>
                  <Codes label={`Not from, ${of}`} value={e.not ?? []} onChange={(not) => change(of, { not })} />
                </td>
                <td className="r align-middle">
                  <Button kind="quiet" aria-label={`Take out: ${of}`} onClick={() => remove(of)}>
                    Take out
                  </Button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <div className="flex items-center gap-2">
        <input
          className="field w-52"
          aria-label="Name of an exception"
          placeholder="such as express"
          maxLength={60}
          value={name}
          onChange={(e) => setName(e.target.value)}
          onKeyDown={(e) => {
            if (e.key === "Enter") {
              e.preventDefault();
              add();
            }
          }}
        />
        <Button disabled={!name.trim()} onClick={add}>
          Add an exception
        </Button>
      </div>
    </section>
  );
}

function OptionalAmount({
  label,
  value,
  currency,
  onChange,
}: {
  label: string;
  value?: number;
  currency: string;
  onChange: (minor: number | undefined) => void;
}) {
  const [typed, setTyped] = useState(value === undefined ? "" : typedAmount(value, currency));
  return (
    <td className="r">
      <input
        className="field fig w-20 text-right"
        inputMode="decimal"
        pattern="[0-9]+([.,][0-9]+)?"
        aria-label={label}
        placeholder="–"
        value={typed}
        onChange={(e) => {
          setTyped(e.target.value);
          const minor = minorOf(e.target.value, currency);
          if (e.target.value.trim() === "") onChange(undefined);
          else if (!Number.isNaN(minor)) onChange(minor);
        }}
      />
    </td>
  );
}

function OptionalWhole({
  label,
  value,
  most,
  onChange,
}: {
  label: string;
  value?: number;
  most: number;
  onChange: (n: number | undefined) => void;
}) {
  return (
    <td className="r">
      <input
        className="field fig w-16 text-right"
        type="number"
        min={0}
        max={most}
        aria-label={label}
        placeholder="–"
        value={value ?? ""}
        onChange={(e) => onChange(e.target.value === "" ? undefined : Number(e.target.value))}
      />
    </td>
  );
}

/** Codes of places, by comma. */
function Codes({ label, value, onChange }: { label: string; value: string[]; onChange: (codes: string[]) => void }) {
  const [typed, setTyped] = useState(value.join(", "));
  return (
    <input
      className="field w-32"
      aria-label={label}
      placeholder="codes of places"
      value={typed}
      onChange={(e) => {
        setTyped(e.target.value);
        onChange(
          e.target.value
            .split(",")
            .map((x) => x.trim())
            .filter(Boolean),
        );
      }}
    />
  );
}

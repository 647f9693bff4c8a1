import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, take } from "../../api/client";
import { Button } from "../../parts/controls";
import { keptValue, shownValue, unitOf, type Comparison, type Field, type Words } from "./words";

/** Conditions on an order, one below the other, all or any of which hold. */
export function Conditions({
  words,
  any,
  conditions,
  onChange,
}: {
  words: NonNullable<Words>;
  any: boolean;
  conditions: Comparison[];
  onChange: (c: Comparison[], any: boolean) => void;
}) {
  const fields = words.fields;
  const first = fields.find((f) => f.name === "country") ?? fields[0];
  const setCondition = (i: number, c: Comparison | null) =>
    onChange(c ? conditions.map((x, j) => (j === i ? c : x)) : conditions.filter((_, j) => j !== i), any);
  return (
    <>
      {conditions.map((c, i) => (
        <div key={i} className="flex flex-wrap items-center gap-2">
          {i > 0 &&
            (i === 1 ? (
              <select
                aria-label="All or any"
                className="field py-0.5!"
                value={any ? "or" : "and"}
                onChange={(e) => onChange(conditions, e.target.value === "or")}
              >
                <option>and</option>
                <option>or</option>
              </select>
            ) : (
              <span className="w-14 text-quiet">{any ? "or" : "and"}</span>
            ))}
          <Condition c={c} fields={fields} comparisons={words.comparisons} onChange={(x) => setCondition(i, x)} />
          <button
            type="button"
            aria-label="Take this condition away"
            className="text-quiet hover:text-ink"
            onClick={() => setCondition(i, null)}
          >
            ×
          </button>
        </div>
      ))}
      <div>
        <Button
          kind="quiet"
          onClick={() =>
            onChange(
              [
                ...conditions,
                { field: first?.name ?? "", is: words.comparisons[first?.type ?? "text"]?.[0] ?? "is", values: [""] } as Comparison,
              ],
              any,
            )
          }
        >
          Add a condition
        </Button>
      </div>
    </>
  );
}

function Condition({
  c,
  fields,
  comparisons,
  onChange,
}: {
  c: Comparison;
  fields: Field[];
  comparisons: Record<string, string[]>;
  onChange: (c: Comparison) => void;
}) {
  const f = fields.find((x) => x.name === c.field);
  const connections = useQuery({
    queryKey: ["connections"],
    queryFn: () => take(api.GET("/api/v1/connections")),
    enabled: f?.unit === "connection",
  });
  const [typed, setTyped] = useState<string | null>(null);
  const values = (text: string) =>
    c.is === "is one of" || c.is === "is none of" ? text.split(",").map((t) => t.trim()) : [keptValue(f, text)];
  return (
    <>
      <select
        aria-label="Field"
        className="field"
        value={c.field}
        onChange={(e) => {
          const to = fields.find((x) => x.name === e.target.value);
          setTyped(null);
          onChange({
            field: e.target.value,
            is: (comparisons[to?.type ?? "text"]?.[0] ?? "is") as Comparison["is"],
            values: [to?.type === "truth" ? "true" : ""],
          });
        }}
      >
        {fields.map((x) => (
          <option key={x.name} value={x.name}>
            {x.label}
          </option>
        ))}
      </select>
      {f?.type === "truth" ? (
        <select aria-label="Value" className="field" value={c.values[0]} onChange={(e) => onChange({ ...c, values: [e.target.value] })}>
          <option value="true">yes</option>
          <option value="false">no</option>
        </select>
      ) : (
        <>
          <select
            aria-label="Comparison"
            className="field"
            value={c.is}
            onChange={(e) => onChange({ ...c, is: e.target.value as Comparison["is"] })}
          >
            {(comparisons[f?.type ?? "text"] ?? []).map((w) => (
              <option key={w}>{w}</option>
            ))}
          </select>
          {f?.unit === "connection" ? (
            <select aria-label="Value" className="field" value={c.values[0]} onChange={(e) => onChange({ ...c, values: [e.target.value] })}>
              <option value="">choose …</option>
              {connections.data
                ?.filter((x) => x.side === "channel")
                .map((x) => (
                  <option key={x.code} value={x.code}>
                    {x.name}
                  </option>
                ))}
            </select>
          ) : (
            <input
              aria-label="Value"
              className="field w-36"
              value={typed ?? c.values.map((v) => (v === "" ? "" : shownValue(f, v))).join(", ")}
              onChange={(e) => {
                setTyped(e.target.value);
                onChange({ ...c, values: e.target.value === "" ? [""] : values(e.target.value) });
              }}
              onBlur={() => setTyped(null)}
            />
          )}
          <span className="text-[12px] text-quiet">{unitOf(f)}</span>
        </>
      )}
    </>
  );
}

import { useQuery } from "@tanstack/react-query";
import { api, take, type Schema } from "../../api/client";
import { decimal, minorOf } from "../../parts/format";

export type Words = Schema<"Words"> | undefined;
export type Comparison = Schema<"RulesComparison">;
export type Action = Schema<"RulesAction">;
export type Field = Schema<"RulesField">;

export const useWords = () =>
  useQuery({ queryKey: ["rule words"], queryFn: () => take(api.GET("/api/v1/rules/words")), staleTime: Infinity });

/** A value as people write it: amounts as decimals, weights in kilograms. */
export function shownValue(field: Field | undefined, value: string): string {
  if (Number.isNaN(Number(value))) return value;
  if (field?.unit === "amount") return decimal(Number(value), "EUR");
  if (field?.unit === "g") return String(Number(value) / 1000);
  return value;
}

/** And back: what a condition compares with. What is no number stays as it was typed, and the service says so. */
export function keptValue(field: Field | undefined, text: string): string {
  const n =
    field?.unit === "amount" ? minorOf(text, "EUR") : field?.unit === "g" ? Math.round(Number(text.replace(",", ".")) * 1000) : Number.NaN;
  return Number.isNaN(n) ? text : String(n);
}

export const unitOf = (field: Field | undefined) => ({ amount: "in the order's currency", g: "kg" })[field?.unit ?? ""] ?? "";

/** A comparison as part of a sentence. */
export function phrase(c: Comparison, fields: Field[]): string {
  const f = fields.find((x) => x.name === c.field);
  const label = f?.label ?? c.field;
  if (f?.type === "truth") return c.values[0] === "false" ? `not: ${label}` : label;
  const value = c.values.map((v) => shownValue(f, v)).join(" or ");
  const is = ["above", "below", "at least", "at most"].includes(c.is) ? `is ${c.is}` : c.is;
  return `${label} ${is} ${value}${f?.unit === "g" ? " kg" : ""}`;
}

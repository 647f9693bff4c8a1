import type { Schema } from "../../api/client";

export type Settings = Schema<"RelaySettings">;

/** What each part of the settings form works on. */
export interface Part {
  s: Settings;
  put: (change: Partial<Settings>) => void;
  join: Join;
  places: Schema<"Location">[];
}

type Texts =
  | "time_zone"
  | "number_prefix"
  | "channel_prefix"
  | "anonymous"
  | "generic_customer"
  | "price_list"
  | "tax_name"
  | "sender"
  | "difference_account";

type Typed = { target: { value: string } };

/** What a field of text needs to show a setting and to change it. */
export const text = ({ s, put }: Part, key: Texts) => ({ value: s[key] ?? "", onChange: (e: Typed) => put({ [key]: e.target.value }) });

/** The same of a count. */
export const number = (value: number | undefined, set: (n: number) => void) => ({
  type: "number",
  min: 0,
  value: value ?? 0,
  onChange: (e: Typed) => set(Number(e.target.value)),
});

export type Join = Schema<"Join">;

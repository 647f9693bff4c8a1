import { useState } from "react";
import type { Schema } from "../../api/client";
import { Labelled } from "../../parts/fields";

export type Company = Schema<"RelayCompany">;
type Address = NonNullable<Company["address"]>;

const addressFields = [
  ["street", "Street and number"],
  ["extra", "Second line"],
  ["postcode", "Postcode"],
  ["town", "Town"],
  ["phone", "Telephone"],
  ["email", "E-mail of the company"],
] as const;

const noAddress: Address = { name: "", street: "", postcode: "", town: "", country: "" };

/** The name of a country by its two letters, in the reader's language; empty where there is none. */
export function countryName(code: string): string {
  if (!/^[A-Za-z]{2}$/.test(code)) return "";
  const name = new Intl.DisplayNames(undefined, { type: "region", fallback: "none" }).of(code.toUpperCase());
  return name ?? "";
}

/** A company as it is sent: its address is in its country, and one of which nothing is said is none. */
export function whole(c: Company): Company {
  const a = c.address;
  const said = a && addressFields.some(([key]) => a[key]?.trim());
  return { ...c, address: said ? { ...a, country: c.country ?? "" } : undefined };
}

/** What is to be known of a company. */
export function CompanyFields({ value: c, onChange }: { value: Company; onChange: (c: Company) => void }) {
  const address = c.address ?? noAddress;
  return (
    <div className="grid grid-cols-2 gap-3 max-sm:grid-cols-1">
      <Labelled label="Name of the company" wide>
        <input
          className="field w-full"
          required
          maxLength={200}
          value={c.name}
          onChange={(e) => onChange({ ...c, name: e.target.value })}
        />
      </Labelled>
      <Labelled label="Country, two letters" help={countryName(c.country ?? "") || "Such as XW; new addresses begin with it"}>
        <input
          className="field code w-full uppercase"
          maxLength={2}
          value={c.country ?? ""}
          onChange={(e) => onChange({ ...c, country: e.target.value.toUpperCase() })}
        />
      </Labelled>
      <Labelled label="Currency, three letters" help="Of items and orders that say none">
        <input
          className="field code w-full uppercase"
          list="currencies"
          maxLength={3}
          placeholder="EUR"
          value={c.currency ?? ""}
          onChange={(e) => onChange({ ...c, currency: e.target.value.toUpperCase() })}
        />
      </Labelled>
      <Labelled label="Language of papers" help="Of pick lists, labels and manifests">
        <select
          className="field w-full"
          value={c.language ?? ""}
          onChange={(e) => onChange({ ...c, language: e.target.value as Company["language"] })}
        >
          <option value="">English</option>
          <option value="de">Deutsch</option>
          <option value="fr">Français</option>
        </select>
      </Labelled>
      <Labelled label="Sent together" help="Which orders to the same person and address are offered to be sent in one carton">
        <select
          className="field w-full"
          value={c.together ?? "any"}
          onChange={(e) => onChange({ ...c, together: e.target.value as Company["together"] })}
        >
          <option value="any">Any of them</option>
          <option value="same channel">Those of one channel</option>
          <option value="same day">Those of one day</option>
          <option value="same channel and day">Those of one channel and day</option>
          <option value="never">None</option>
        </select>
      </Labelled>
      <Reasons of={c.reasons ?? []} onChange={(reasons) => onChange({ ...c, reasons })} />
      <Labelled label="Time zone" help="Its days begin at midnight there: those of reports, manifests and counts">
        <input
          className="field code w-full"
          list="zones"
          placeholder="UTC"
          value={c.time_zone}
          onChange={(e) => onChange({ ...c, time_zone: e.target.value })}
        />
      </Labelled>
      {addressFields.map(([key, label]) => (
        <Labelled key={key} label={label}>
          <input
            className="field w-full"
            value={address[key] ?? ""}
            onChange={(e) => onChange({ ...c, address: { ...address, [key]: e.target.value } })}
          />
        </Labelled>
      ))}
      <datalist id="zones">
        {Intl.supportedValuesOf("timeZone").map((z) => (
          <option key={z} value={z} />
        ))}
      </datalist>
      <datalist id="currencies">
        {Intl.supportedValuesOf("currency").map((z) => (
          <option key={z} value={z} />
        ))}
      </datalist>
    </div>
  );
}

/** The company's reasons, on one line; what is typed stays as it is typed. */
function Reasons({ of, onChange }: { of: string[]; onChange: (reasons: string[]) => void }) {
  const [text, setText] = useState(of.join(", "));
  return (
    <Labelled label="Reasons" help="Why units are cancelled here and goods come back, by commas; offered where a reason is asked for" wide>
      <input
        className="field w-full"
        placeholder="broken, wrong item, buyer changed their mind"
        value={text}
        onChange={(e) => {
          setText(e.target.value);
          onChange(
            e.target.value
              .split(",")
              .map((s) => s.trim())
              .filter(Boolean),
          );
        }}
      />
    </Labelled>
  );
}

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, take, type Schema } from "../../api/client";
import { connectionsQuery, locationsQuery, sendersQuery } from "../../api/queries";
import { Trouble } from "../../parts/controls";
import { RowTable } from "../../shared/company/rowtable";
import { SettingsPage } from "../../shared/company/settingspage";
import { daysOffOf, daysOffText, HoursFields } from "./hours";

type Collection = Schema<"FreightCollection">;

/** When carriers come to places. */
export default function Carriers() {
  return (
    <SettingsPage
      kinds={["collections", "billing accounts", "customs", "address checks"]}
      title="Carriers"
      sub="When they come, on whose accounts they are paid, and what customs hears"
      needs="setup"
      about="What was agreed with carriers"
    >
      <Collections />
      <Accounts />
      <Customs />
      <Addresses />
    </SettingsPage>
  );
}

/** The carriers that sell labels, to be chosen. */
function useCarriers() {
  return (useQuery(connectionsQuery).data ?? []).filter((c) => c.side === "carrier").map((c) => [c.code, c.name] as const);
}

const days = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];

function Collections() {
  const carriers = useCarriers();
  const places = (useQuery(locationsQuery).data ?? []).map((l) => [l.code, l.name] as const);
  const called = (list: (readonly [string, string])[], code: string) => list.find(([c]) => c === code)?.[1] ?? code;
  return (
    <RowTable<Collection>
      name="collections"
      texts={{
        title: "When carriers come",
        about:
          "By the cut-off a parcel goes along the same day; later ones go on the next list, and arrive accordingly. Where nothing is " +
          "said, the hours of the place count. With the day's list the carrier is asked to come between these hours.",
        add: "Add a carrier",
        none: "Nothing is said yet. Say when a carrier comes, and prices tell on which day a parcel arrives.",
        one: "When a carrier comes",
      }}
      columns={[
        { title: "Carrier", cell: (r) => called(carriers, r.carrier) },
        { title: "Place", cell: (r) => called(places, r.place) },
        { title: "It comes", cell: (r) => <Week week={r.hours.week ?? []} /> },
        { title: "Cut-off", cell: (r) => <span className="fig">{r.hours.cutoff}</span> },
        { title: "Days off", cell: (r) => <span className="code">{(r.hours.days_off ?? []).map((d) => d.from).join(" ")}</span> },
      ]}
      nameOf={(r) => `${called(carriers, r.carrier)} at ${called(places, r.place)}`}
      blank={{ carrier: "", place: places.length === 1 ? (places[0]?.[0] ?? "") : "", hours: { week: Array<string>(7).fill("") } }}
      get={() => take(api.GET("/api/v1/collections"))}
      put={(rows) => take(api.PUT("/api/v1/collections", { body: { rows } }))}
      fields={[
        { key: "carrier", label: "Carrier", kind: "choice", options: carriers, required: true },
        { key: "place", label: "Place", kind: "choice", options: places, required: true },
      ]}
      more={(row, set) => <Hours row={row} set={set} />}
    />
  );
}

function Hours({ row, set }: { row: Collection; set: (to: Partial<Collection>) => void }) {
  const [off, setOff] = useState(daysOffText(row.hours.days_off));
  return (
    <HoursFields
      always
      value={row.hours}
      off={off}
      onChange={(h) => set({ hours: { ...(h ?? row.hours), days_off: daysOffOf(off) } })}
      onOff={(text) => {
        setOff(text);
        set({ hours: { ...row.hours, days_off: daysOffOf(text) } });
      }}
    />
  );
}

type Account = Schema<"FreightAccount">;

const payers = [
  ["sender", "the sender"],
  ["recipient", "the recipient"],
  ["third", "somebody else"],
] as const;

function Accounts() {
  const carriers = useCarriers();
  const senders = (useQuery(sendersQuery).data ?? []).filter((s) => !s.archived_at).map((s) => [s.code, s.name] as const);
  return (
    <RowTable<Account>
      name="billing-accounts"
      texts={{
        title: "Who pays the carrier",
        about:
          "A rule that names an account goes first (account), then what came with the order, then the customer's account, then the " +
          "sender's. Else the sender pays, as the carrier knows it.",
        add: "Add an account",
        none: "No account yet: the sender pays, as each carrier knows it.",
        one: "An account",
      }}
      columns={[
        { title: "Code", cell: (a) => <span className="code">{a.code}</span> },
        { title: "Carrier", cell: (a) => carriers.find(([c]) => c === a.carrier)?.[1] ?? a.carrier },
        { title: "Number", cell: (a) => <span className="code">{a.number}</span> },
        { title: "Paid by", cell: (a) => payers.find(([p]) => p === a.payer)?.[1] },
        { title: "Whose", cell: (a) => a.name },
        { title: "For", cell: (a) => a.customer || (a.sender && `parcels of ${a.sender}`) || <span className="text-quiet">rules</span> },
      ]}
      nameOf={(a) => a.code}
      blank={{ code: "", carrier: "", number: "", payer: "sender" }}
      get={() => take(api.GET("/api/v1/billing-accounts"))}
      put={(rows) => take(api.PUT("/api/v1/billing-accounts", { body: { rows } }))}
      fields={[
        { key: "code", label: "Code", help: "By which rules name it.", required: true },
        { key: "carrier", label: "Carrier", kind: "choice", options: carriers, required: true },
        { key: "number", label: "Number at the carrier", required: true },
        { key: "payer", label: "Paid by", kind: "choice", options: payers, required: true },
        { key: "name", label: "Whose it is" },
        { key: "customer", label: "For the orders of", help: "An e-mail address, or @ and a domain." },
        { key: "sender", label: "For the parcels of", kind: "choice", options: [["", "no sender by itself"], ...senders] },
        { key: "postcode", label: "Postcode of whoever pays", help: "Where the carrier wants it." },
        { key: "country", label: "Country of whoever pays" },
      ]}
    />
  );
}

type Declarant = Schema<"CustomsDeclarant">;

const each = (list: readonly string[]) => list.map((x) => [x, x] as const);

function Customs() {
  const senders = (useQuery(sendersQuery).data ?? []).filter((s) => !s.archived_at).map((s) => [s.code, s.name] as const);
  return (
    <RowTable<Declarant>
      name="declarants"
      texts={{
        title: "Across a customs border",
        about:
          "A parcel to another country is declared line by line, to the carriers that take it and on papers. Items need a customs " +
          "code, an origin and a weight; what lacks is named before a label is bought.",
        add: "Add a row",
        none: "Nothing said: each other country is across a border, goods leave as a sale, delivered at place (DAP).",
        one: "How a sender declares",
      }}
      columns={[
        { title: "Sender", cell: (d) => senders.find(([c]) => c === d.sender)?.[1] ?? "all others" },
        { title: "No border between", cell: (d) => <span className="code">{(d.area ?? []).join(" ")}</span> },
        { title: "Number", cell: (d) => <span className="code">{d.number}</span> },
        { title: "Reason", cell: (d) => d.reason },
        { title: "Terms", cell: (d) => d.terms },
        { title: "Signed by", cell: (d) => d.signer },
      ]}
      nameOf={(d) => d.sender || "all others"}
      blank={{ reason: "sale", terms: "DAP" }}
      get={() => take(api.GET("/api/v1/declarants"))}
      put={(rows) => take(api.PUT("/api/v1/declarants", { body: { rows } }))}
      fields={[
        { key: "sender", label: "Sender", kind: "choice", options: [["", "all others"], ...senders] },
        { key: "area", label: "No border between", help: "Codes of countries, by commas.", kind: "list" },
        { key: "number", label: "Customs or tax number" },
        {
          key: "reason",
          label: "Reason",
          kind: "choice",
          options: each(["sale", "gift", "sample", "returned goods", "documents", "other"]),
        },
        { key: "terms", label: "Terms (Incoterms 2020)", kind: "choice", options: each(["DAP", "DDP", "DPU", "EXW", "FCA", "CPT", "CIP"]) },
        { key: "signer", label: "Signed by" },
      ]}
    />
  );
}

type Policy = Schema<"RelayAddressPolicy">;

const policies = [
  ["show", "show a better form, a person takes it"],
  ["spelling", "take a better form where only spelling and the postcode's extension differ"],
  ["never", "do not look at them"],
] as const;

/** What becomes of the addresses of orders, where an address service is joined. */
function Addresses() {
  const client = useQueryClient();
  const key = ["rows", "address-policy"];
  const q = useQuery({ queryKey: key, queryFn: () => take(api.GET("/api/v1/address-policy")) });
  const put = useMutation({
    mutationFn: (check: Policy["check"]) => take(api.PUT("/api/v1/address-policy", { body: { rows: [{ check }] } })),
    onSuccess: (list) => {
      client.setQueryData(key, list);
      void client.invalidateQueries({ queryKey: ["setting-changes"] });
    },
  });
  return (
    <section aria-label="Addresses">
      <h2 className="mb-1">Addresses of orders that come in</h2>
      <p className="mb-2 max-w-prose text-quiet">
        Where an address service is joined, each is looked at once. What cannot be delivered to is held; an outage of the service holds
        nothing.
      </p>
      <select
        className="field"
        aria-label="What becomes of addresses"
        value={q.data?.rows?.[0]?.check ?? "show"}
        disabled={put.isPending}
        onChange={(e) => put.mutate(e.target.value as Policy["check"])}
      >
        {policies.map(([value, text]) => (
          <option key={value} value={value}>
            {text}
          </option>
        ))}
      </select>
      <Trouble error={q.error ?? put.error} />
    </section>
  );
}

/** The hours of a week, days with the same ones together. */
function Week({ week }: { week: string[] }) {
  const spans: [string, string][] = [];
  week.forEach((hours, i) => {
    const last = spans[spans.length - 1];
    if (hours === "") return;
    if (last && last[1] === hours && week[i - 1] === hours) last[0] = `${last[0].split("–")[0]}–${days[i]}`;
    else spans.push([days[i] ?? "", hours]);
  });
  return <span className="fig">{spans.map(([d, h]) => `${d} ${h}`).join(", ")}</span>;
}

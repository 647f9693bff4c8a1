import { useQuery } from "@tanstack/react-query";
import { api, take, type Schema } from "../../api/client";
import { sendersQuery } from "../../api/queries";
import { Labelled } from "../../parts/fields";
import { RowTable } from "../../shared/company/rowtable";

type Own = Schema<"PlaceSenderAddress">;
type Address = NonNullable<Own["address"]>;

const line = (a: Address | undefined) =>
  [a?.name, a?.street, `${a?.postcode ?? ""} ${a?.town ?? ""}`.trim(), a?.country].filter(Boolean).join(", ");

/** What senders have of their own: an address, one to which parcels come back, a logo. */
export function SenderAddresses() {
  const senders = (useQuery(sendersQuery).data ?? []).filter((s) => !s.archived_at).map((s) => [s.code, s.name] as const);
  return (
    <RowTable<Own>
      name="sender-addresses"
      texts={{
        title: "Addresses and logos of senders",
        about:
          "Parcels show the address of the place that they leave from, unless their sender has one of its own. The logo stands on " +
          "packing slips.",
        add: "Add an address",
        none: "None yet: parcels show the address of the place that they leave from, and come back there.",
        one: "What a sender has of its own",
      }}
      columns={[
        { title: "Sender", cell: (s) => senders.find(([c]) => c === s.sender)?.[1] ?? s.sender },
        { title: "Address", cell: (s) => line(s.address) || <span className="text-quiet">the place&rsquo;s</span> },
        { title: "Comes back to", cell: (s) => line(s.return_to) || <span className="text-quiet">where it comes from</span> },
        {
          title: "Logo",
          cell: (s) =>
            s.logo && <img className="max-h-8 max-w-32 bg-white" alt={`Logo of ${s.sender}`} src={`data:image/png;base64,${s.logo}`} />,
        },
      ]}
      nameOf={(s) => s.sender}
      blank={{ sender: "" }}
      get={() => take(api.GET("/api/v1/sender-addresses"))}
      put={(rows) => take(api.PUT("/api/v1/sender-addresses", { body: { rows } }))}
      fields={[{ key: "sender", label: "Sender", kind: "choice", options: senders, required: true, wide: true }]}
      more={(row, set) => (
        <>
          <AddressFields title="Address" value={row.address} onChange={(address) => set({ address })} />
          <AddressFields title="Comes back to" value={row.return_to} onChange={(return_to) => set({ return_to })} />
          <Labelled label="Logo" help="A PNG." wide>
            <input type="file" accept="image/png" onChange={(e) => void read(e.target.files?.[0], (logo) => set({ logo }))} />
          </Labelled>
        </>
      )}
    />
  );
}

/** Reads a file as base64. */
async function read(file: File | undefined, to: (text: string) => void) {
  if (!file) return to("");
  const bytes = new Uint8Array(await file.arrayBuffer());
  let text = "";
  for (const b of bytes) text += String.fromCharCode(b);
  to(btoa(text));
}

const parts = [
  ["name", "name"],
  ["street", "street and number"],
  ["postcode", "postcode"],
  ["town", "town"],
  ["country", "country"],
] as const;

function AddressFields({ title, value, onChange }: { title: string; value: Address | undefined; onChange: (a: Address) => void }) {
  return (
    <>
      {parts.map(([key, label]) => (
        <Labelled key={key} label={`${title}: ${label}`}>
          <input
            className="field w-full"
            value={value?.[key] ?? ""}
            onChange={(e) => onChange({ ...(value ?? ({} as Address)), [key]: e.target.value })}
          />
        </Labelled>
      ))}
    </>
  );
}

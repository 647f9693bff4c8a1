import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, take, type Schema } from "../../api/client";
import { namedCarriersQuery, sendersQuery } from "../../api/queries";
import { Labelled } from "../../parts/fields";
import { SenderAddresses } from "./senderaddresses";
import { KeptForm, KeptList } from "../../shared/company/kept";
import { SettingsPage } from "../../shared/company/settingspage";
import { codeOf, NameAndCode } from "../../shared/company/named";

type Sender = Schema<"Sender">;
type Carrier = Schema<"NamedCarrier">;

/** Whom parcels come from, and carriers of which no more is known than their name. */
export default function Senders() {
  return (
    <SettingsPage
      kinds={["sender", "carrier", "sender addresses"]}
      title="Senders and carriers"
      sub="Whom parcels come from, and carriers whose numbers are typed"
      needs="setup"
      about="Whom parcels come from"
    >
      <SenderList />
      <SenderAddresses />
      <CarrierList />
    </SettingsPage>
  );
}

function SenderList() {
  const client = useQueryClient();
  return (
    <KeptList<Sender>
      query={useQuery(sendersQuery)}
      texts={{
        title: "Senders",
        about: "Brands of the company, or others that it ships for. A channel ships as one: Connections, Ship as.",
        add: "Add a sender",
        none: "No sender yet. Parcels come from the place that they leave from, and carry its name.",
        one: "A sender",
        name: "Name on parcels",
      }}
      columns={[
        { title: "Company", cell: (s) => s.company },
        { title: "Telephone", cell: (s) => s.phone },
        { title: "E-mail", cell: (s) => s.email },
      ]}
      archive={(s) =>
        take(api.POST("/api/v1/senders/{code}/archive", { params: { path: { code: s.code } }, body: { archived: !s.archived_at } }))
      }
      onList={(list) => client.setQueryData(sendersQuery.queryKey, list)}
      form={(was, onDone) => <SenderForm was={was} onDone={onDone} />}
    />
  );
}

const senderFields = [
  ["company", "Second line"],
  ["phone", "Telephone"],
  ["email", "E-mail"],
] as const;

function SenderForm({ was, onDone }: { was?: Sender; onDone: (list: Sender[]) => void }) {
  const [name, setName] = useState(was?.name ?? "");
  const [code, setCode] = useState(was?.code ?? "");
  const [rest, setRest] = useState({ company: was?.company ?? "", phone: was?.phone ?? "", email: was?.email ?? "" });
  const put = useMutation({
    mutationFn: () =>
      take(api.PUT("/api/v1/senders/{code}", { params: { path: { code: was?.code ?? (code || codeOf(name)) } }, body: { name, ...rest } })),
    onSuccess: onDone,
  });
  return (
    <KeptForm error={put.error} busy={put.isPending} add="Add the sender" was={!!was} onSubmit={() => put.mutate()}>
      <NameAndCode name={name} code={code} fixed={!!was} onName={setName} onCode={setCode} />
      {senderFields.map(([key, label]) => (
        <Labelled key={key} label={label} help="Empty: that of the place">
          <input className="field w-full" value={rest[key]} onChange={(e) => setRest({ ...rest, [key]: e.target.value })} />
        </Labelled>
      ))}
    </KeptForm>
  );
}

function CarrierList() {
  const client = useQueryClient();
  return (
    <KeptList<Carrier>
      query={useQuery(namedCarriersQuery)}
      texts={{
        title: "Carriers that are only named",
        about: "Labels are bought elsewhere; numbers are typed where parcels are packed. Carriers that sell labels here are joined.",
        add: "Name a carrier",
        none: "None yet. Name one, and a packed parcel can leave with a number that is typed.",
        one: "A carrier",
        name: "Name",
      }}
      columns={[
        { title: "Parcels are followed at", kind: "code", cell: (c) => c.tracking_url || <span className="text-quiet">not known</span> },
      ]}
      archive={(c) =>
        take(api.POST("/api/v1/named-carriers/{code}/archive", { params: { path: { code: c.code } }, body: { archived: !c.archived_at } }))
      }
      onList={(list) => {
        client.setQueryData(namedCarriersQuery.queryKey, list);
        void client.invalidateQueries({ queryKey: ["first-day"] });
      }}
      form={(was, onDone) => <CarrierForm was={was} onDone={onDone} />}
    />
  );
}

function CarrierForm({ was, onDone }: { was?: Carrier; onDone: (list: Carrier[]) => void }) {
  const [name, setName] = useState(was?.name ?? "");
  const [code, setCode] = useState(was?.code ?? "");
  const [tracking, setTracking] = useState(was?.tracking_url ?? "");
  const put = useMutation({
    mutationFn: () =>
      take(
        api.PUT("/api/v1/named-carriers/{code}", {
          params: { path: { code: was?.code ?? (code || codeOf(name)) } },
          body: { name, tracking_url: tracking },
        }),
      ),
    onSuccess: onDone,
  });
  return (
    <KeptForm error={put.error} busy={put.isPending} add="Add the carrier" was={!!was} onSubmit={() => put.mutate()}>
      <NameAndCode name={name} code={code} fixed={!!was} onName={setName} onCode={setCode} />
      <Labelled label="Where a parcel is followed" help="{number} stands for its number; buyers and channels get this address" wide>
        <input
          className="field code w-full"
          placeholder="https://carrier.example/{number}"
          value={tracking}
          onChange={(e) => setTracking(e.target.value)}
        />
      </Labelled>
    </KeptForm>
  );
}

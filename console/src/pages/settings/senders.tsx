import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent, type ReactNode } from "react";
import { api, take, type Schema } from "../../api/client";
import { namedCarriersQuery, sendersQuery } from "../../api/queries";
import { Button, Empty, Loading, Sheet, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import { When } from "../../parts/format";
import { Lamp } from "../../parts/lamp";
import { SettingsPage } from "../../shared/company/settingspage";
import { codeOf, NameAndCode } from "../../shared/company/named";

type Sender = Schema<"Sender">;
type Carrier = Schema<"NamedCarrier">;

/** Whom parcels come from, and carriers of which no more is known than their name. */
export default function Senders() {
  return (
    <SettingsPage
      title="Senders and carriers"
      sub="Whom parcels come from, and carriers whose numbers are typed"
      needs="setup"
      about="Whom parcels come from"
    >
      <SenderList />
      <CarrierList />
    </SettingsPage>
  );
}

function SenderList() {
  const client = useQueryClient();
  const q = useQuery(sendersQuery);
  const [edit, setEdit] = useState<Sender | "new" | null>(null);
  const done = (list: Sender[]) => client.setQueryData(sendersQuery.queryKey, list);
  const archive = useMutation({
    mutationFn: (s: Sender) =>
      take(api.POST("/api/v1/senders/{code}/archive", { params: { path: { code: s.code } }, body: { archived: !s.archived_at } })),
    onSuccess: done,
  });
  return (
    <section aria-label="Senders">
      <Title text="Senders" about="Brands of the company, or others that it ships for. A channel ships as one: Connections, Ship as.">
        <Button onClick={() => setEdit("new")}>Add a sender</Button>
      </Title>
      <Trouble error={q.error ?? archive.error} />
      {q.isPending && <Loading />}
      {q.data?.length === 0 && <Empty>No sender yet. Parcels come from the place that they leave from, and carry its name.</Empty>}
      {q.data && q.data.length > 0 && (
        <table className="ledger">
          <thead>
            <tr>
              <th>Code</th>
              <th>Name on parcels</th>
              <th>Company</th>
              <th>Telephone</th>
              <th>E-mail</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {q.data.map((s) => (
              <tr key={s.code} className={s.archived_at ? "text-quiet" : ""}>
                <td className="code">{s.code}</td>
                <td>
                  {s.name} <Unused at={s.archived_at} />
                  {s.warnings?.map((w) => (
                    <div key={w}>
                      <Lamp state="caution">{w}</Lamp>
                    </div>
                  ))}
                </td>
                <td>{s.company}</td>
                <td>{s.phone}</td>
                <td>{s.email}</td>
                <Acts name={s.name} at={s.archived_at} onChange={() => setEdit(s)} onArchive={() => archive.mutate(s)} />
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <Sheet open={edit !== null} onClose={() => setEdit(null)} title={edit === "new" ? "A sender" : (edit?.name ?? "")}>
        {edit && (
          <SenderForm
            was={edit === "new" ? undefined : edit}
            onDone={(list) => {
              done(list);
              setEdit(null);
            }}
          />
        )}
      </Sheet>
    </section>
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
    <Form error={put.error} busy={put.isPending} add="Add the sender" was={!!was} onSubmit={() => put.mutate()}>
      <NameAndCode name={name} code={code} fixed={!!was} onName={setName} onCode={setCode} />
      {senderFields.map(([key, label]) => (
        <Labelled key={key} label={label} help="Empty: that of the place">
          <input className="field w-full" value={rest[key]} onChange={(e) => setRest({ ...rest, [key]: e.target.value })} />
        </Labelled>
      ))}
    </Form>
  );
}

function CarrierList() {
  const client = useQueryClient();
  const q = useQuery(namedCarriersQuery);
  const [edit, setEdit] = useState<Carrier | "new" | null>(null);
  const done = (list: Carrier[]) => {
    client.setQueryData(namedCarriersQuery.queryKey, list);
    void client.invalidateQueries({ queryKey: ["first-day"] });
  };
  const archive = useMutation({
    mutationFn: (c: Carrier) =>
      take(api.POST("/api/v1/named-carriers/{code}/archive", { params: { path: { code: c.code } }, body: { archived: !c.archived_at } })),
    onSuccess: done,
  });
  return (
    <section aria-label="Carriers that are only named">
      <Title
        text="Carriers that are only named"
        about="Labels are bought elsewhere; numbers are typed where parcels are packed. Carriers that sell labels here are joined."
      >
        <Button onClick={() => setEdit("new")}>Name a carrier</Button>
      </Title>
      <Trouble error={q.error ?? archive.error} />
      {q.isPending && <Loading />}
      {q.data?.length === 0 && <Empty>None yet. Name one, and a packed parcel can leave with a number that is typed.</Empty>}
      {q.data && q.data.length > 0 && (
        <table className="ledger">
          <thead>
            <tr>
              <th>Code</th>
              <th>Name</th>
              <th>Parcels are followed at</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {q.data.map((c) => (
              <tr key={c.code} className={c.archived_at ? "text-quiet" : ""}>
                <td className="code">{c.code}</td>
                <td>
                  {c.name} <Unused at={c.archived_at} />
                </td>
                <td className="code">{c.tracking_url || <span className="text-quiet">not known</span>}</td>
                <Acts name={c.name} at={c.archived_at} onChange={() => setEdit(c)} onArchive={() => archive.mutate(c)} />
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <Sheet open={edit !== null} onClose={() => setEdit(null)} title={edit === "new" ? "A carrier" : (edit?.name ?? "")}>
        {edit && (
          <CarrierForm
            was={edit === "new" ? undefined : edit}
            onDone={(list) => {
              done(list);
              setEdit(null);
            }}
          />
        )}
      </Sheet>
    </section>
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
    <Form error={put.error} busy={put.isPending} add="Add the carrier" was={!!was} onSubmit={() => put.mutate()}>
      <NameAndCode name={name} code={code} fixed={!!was} onName={setName} onCode={setCode} />
      <Labelled label="Where a parcel is followed" help="{number} stands for its number; buyers and channels get this address" wide>
        <input
          className="field code w-full"
          placeholder="https://carrier.example/{number}"
          value={tracking}
          onChange={(e) => setTracking(e.target.value)}
        />
      </Labelled>
    </Form>
  );
}

function Title({ text, about, children }: { text: string; about: string; children: ReactNode }) {
  return (
    <>
      <div className="mb-1 flex items-baseline justify-between">
        <h2>{text}</h2>
        {children}
      </div>
      <p className="mb-2 max-w-prose text-quiet">{about}</p>
    </>
  );
}

function Unused({ at }: { at?: string | null }) {
  return (
    at && (
      <Lamp state="idle">
        used no more since <When at={at} />
      </Lamp>
    )
  );
}

function Acts({ name, at, onChange, onArchive }: { name: string; at?: string | null; onChange: () => void; onArchive: () => void }) {
  return (
    <td>
      <div className="-my-1 flex justify-end gap-4 whitespace-nowrap">
        {!at && (
          <Button kind="quiet" aria-label={`Change ${name}`} onClick={onChange}>
            Change
          </Button>
        )}
        <Button kind="quiet" aria-label={at ? `Use again: ${name}` : `Use no more: ${name}`} onClick={onArchive}>
          {at ? "Use again" : "Use no more"}
        </Button>
      </div>
    </td>
  );
}

function Form({
  error,
  busy,
  add,
  was,
  onSubmit,
  children,
}: {
  error: unknown;
  busy: boolean;
  add: string;
  was: boolean;
  onSubmit: () => void;
  children: ReactNode;
}) {
  return (
    <form
      className="grid grid-cols-2 gap-3"
      onSubmit={(e: FormEvent) => {
        e.preventDefault();
        onSubmit();
      }}
    >
      {children}
      <div className="col-span-2 flex flex-col gap-3">
        <Trouble error={error} />
        <Button kind="main" type="submit" disabled={busy}>
          {was ? "Keep the change" : add}
        </Button>
      </div>
    </form>
  );
}

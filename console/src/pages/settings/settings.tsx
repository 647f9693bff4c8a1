import { LastChange } from "../../shared/company/lastchange";
import { companyQuery, may, meQuery } from "../../api/queries";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { api, take, type Schema } from "../../api/client";
import { Button, Empty, Head, Loading, Trouble } from "../../parts/controls";
import { Labelled, Switch } from "../../parts/fields";
import { When } from "../../parts/format";
import { Lamp } from "../../parts/lamp";
import { Rail, settingsStops } from "../../parts/rail";
import { CompanyFields, whole, type Company as CompanyOf } from "../../shared/company/fields";

type Target = Schema<"Target">;

/** The company's own terms: who is told of what, how long personal data is kept, and who looked at it. */
export default function Settings() {
  const me = useQuery(meQuery);
  if (me.isPending) return <Loading />;
  return (
    <>
      <Head title="Settings" sub="The company, notices and privacy" />
      <Rail label="Settings" stops={settingsStops} />
      {!may(me.data, "setup") ? (
        <Empty>
          Who is told of exceptions, how long personal data is kept, and who looked at it: this is for those with the role lead.
        </Empty>
      ) : (
        <>
          <LastChange kinds={["company", "personal data"]} />
          <div className="grid grid-cols-2 gap-x-12 gap-y-8 max-lg:grid-cols-1">
            <Notices />
            <div className="grid content-start gap-8">
              <Company />
              <Keeping />
              <Person />
              <Looks />
            </div>
          </div>
        </>
      )}
    </>
  );
}

/** What is known of the company itself. */
function Company() {
  const client = useQueryClient();
  const q = useQuery(companyQuery);
  const [edit, setEdit] = useState<CompanyOf | null>(null);
  const put = useMutation({
    mutationFn: (body: CompanyOf) => take(api.PUT("/api/v1/company", { body })),
    onSuccess: () => {
      setEdit(null);
      for (const key of ["company", "board", "report"]) void client.invalidateQueries({ queryKey: [key] });
    },
  });
  const now = edit ?? q.data;
  return (
    <section aria-label="The company">
      <h2 className="mb-2">The company</h2>
      <Trouble error={q.error ?? put.error} />
      {now && (
        <form
          onSubmit={(e) => {
            e.preventDefault();
            put.mutate(whole(now));
          }}
        >
          <CompanyFields value={now} onChange={setEdit} />
          <div className="mt-3 flex gap-2">
            <Button type="submit" disabled={!edit || put.isPending}>
              Save
            </Button>
            {edit && (
              <Button kind="quiet" onClick={() => setEdit(null)}>
                Leave it as it was
              </Button>
            )}
          </div>
        </form>
      )}
    </section>
  );
}

const allCauses = [
  "unknown item",
  "bad address",
  "address not deliverable",
  "total differs",
  "no stock",
  "wants an answer",
  "not answered in time",
  "cancelled too late",
  "changed at the channel",
  "write-back refused",
  "label refused",
  "label not known",
  "label not needed",
  "bin to count",
  "cancellation not told",
  "label not voided",
  "refund not told",
  "return to be decided",
  "number still stands",
  "fits no carton",
  "number not told",
  "parcel not taken",
  "not collected",
  "parcel late",
  "parcel stuck",
  "parcel lost",
  "bill differs",
  "request not taken",
  "partner silent",
  "request to look at",
  "sent and not wanted",
  "item not known there",
  "stock differs",
  "printer off",
  "not printed",
  "service to be chosen",
  "dispatch not applied",
  "put back",
  "credentials refused",
  "backup failed",
  "connection dead",
  "backlog",
  "service unwell",
  "message not understood",
  "file not taken",
  "message not taken in",
  "negative stock",
  "edit not clear",
  "listing rejected",
  "held by a rule",
];

function Notices() {
  const client = useQueryClient();
  const q = useQuery({ queryKey: ["targets"], queryFn: () => take(api.GET("/api/v1/targets")) });
  const [kind, setKind] = useState<"webhook" | "email">("email");
  const [address, setAddress] = useState("");
  const [causes, setCauses] = useState<string[]>([]);
  const [every, setEvery] = useState("5");
  const [secret, setSecret] = useState("");
  const done = () => void client.invalidateQueries({ queryKey: ["targets"] });
  const put = useMutation({
    mutationFn: (body: Schema<"RelayNewTarget">) => take(api.PUT("/api/v1/targets", { body })),
    onSuccess: (t) => {
      setSecret(t.secret ?? "");
      setAddress("");
      done();
    },
  });
  const drop = useMutation({
    mutationFn: (id: number) => take(api.DELETE("/api/v1/targets/{id}", { params: { path: { id } } })),
    onSuccess: done,
  });
  const add = (e: FormEvent) => {
    e.preventDefault();
    put.mutate({ kind, address, causes, every_minutes: Number(every), on: true });
  };
  return (
    <section>
      <h2>Who is told</h2>
      <p className="mb-2 max-w-prose text-quiet">
        Of exceptions when they are raised, once. What comes within the same minutes goes together in one message.
      </p>
      <Trouble error={q.error ?? put.error ?? drop.error} />
      {secret && (
        <p className="mb-3 border-l-4 border-caution bg-sheet px-3 py-2">
          This secret signs what is sent there. It is shown this once: <code className="code break-all">{secret}</code>
        </p>
      )}
      <table className="ledger">
        <tbody>
          {q.data?.map((t) => (
            <Row
              key={t.id}
              t={t}
              onSwitch={(on) =>
                put.mutate({ id: t.id, kind: t.kind, address: t.address, causes: t.causes, every_minutes: t.every_minutes, on })
              }
              onDrop={() => drop.mutate(t.id)}
            />
          ))}
        </tbody>
      </table>
      {q.data?.length === 0 && <p className="py-2 text-quiet">Nobody yet.</p>}
      <form onSubmit={add} className="mt-4 grid grid-cols-2 gap-3 border-t border-rule pt-3">
        <Labelled label="How">
          <select className="field w-full" value={kind} onChange={(e) => setKind(e.target.value as typeof kind)}>
            <option value="email">by e-mail</option>
            <option value="webhook">by calling an address (signed)</option>
          </select>
        </Labelled>
        <Labelled label={kind === "email" ? "E-mail" : "URL"}>
          <input
            className="field w-full"
            required
            type={kind === "email" ? "email" : "url"}
            value={address}
            onChange={(e) => setAddress(e.target.value)}
          />
        </Labelled>
        <fieldset className="col-span-2">
          <legend className="mb-1 text-[12px] text-quiet">Of what; none chosen means everything</legend>
          <div className="flex flex-wrap gap-x-4 gap-y-1">
            {allCauses.map((c) => (
              <label key={c} className="inline-flex items-center gap-1.5">
                <input
                  type="checkbox"
                  checked={causes.includes(c)}
                  onChange={(e) => setCauses(e.target.checked ? [...causes, c] : causes.filter((x) => x !== c))}
                />{" "}
                {c}
              </label>
            ))}
          </div>
        </fieldset>
        <Labelled label="At most one message in so many minutes">
          <input className="field fig w-24" type="number" min={0} max={10080} value={every} onChange={(e) => setEvery(e.target.value)} />
        </Labelled>
        <div className="self-end">
          <Button kind="main" type="submit" disabled={put.isPending}>
            Tell them
          </Button>
        </div>
      </form>
    </section>
  );
}

function Row({ t, onSwitch, onDrop }: { t: Target; onSwitch: (on: boolean) => void; onDrop: () => void }) {
  const notices = useQuery({
    queryKey: ["targets", t.id],
    queryFn: () => take(api.GET("/api/v1/targets/{id}/notices", { params: { path: { id: t.id } } })),
  });
  const last = notices.data?.[0];
  return (
    <tr>
      <td>
        <div className="font-medium break-all">{t.address}</div>
        <div className="text-[12px] text-quiet">
          {t.causes.length ? t.causes.join(", ") : "everything"} · at most every {t.every_minutes} min
        </div>
        {last && (
          <div className="text-[12px]">
            <Lamp state={last.state === "sent" ? "go" : last.state === "failed" ? "stop" : "busy"}>{last.state}</Lamp>{" "}
            <When at={last.sent_at ?? last.at} /> · {last.subject}
            {last.error && <span className="text-stop"> · {last.error}</span>}
          </div>
        )}
      </td>
      <td className="r">
        <div className="flex items-center justify-end gap-3">
          <Switch label={`Tell ${t.address}`} on={t.on} onChange={onSwitch} />
          <Button kind="quiet" onClick={onDrop}>
            Remove
          </Button>
        </div>
      </td>
    </tr>
  );
}

function Keeping() {
  const client = useQueryClient();
  const q = useQuery({ queryKey: ["privacy"], queryFn: () => take(api.GET("/api/v1/privacy")) });
  const [days, setDays] = useState<string | null>(null);
  const put = useMutation({
    mutationFn: () => take(api.PUT("/api/v1/privacy", { body: { keep_days: Number(days) } })),
    onSuccess: (p) => {
      client.setQueryData(["privacy"], p);
      setDays(null);
    },
  });
  const shown = days ?? String(q.data?.keep_days ?? "");
  return (
    <section>
      <h2>How long personal data is kept</h2>
      <p className="mb-2 max-w-prose text-quiet">
        Names, addresses, e-mails, telephone numbers and notes are taken out of orders so many days after they are done. Amounts, goods,
        countries and the beginning of postcodes stay for the books. Those with the role viewer never see them.
      </p>
      <form
        className="flex items-end gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          put.mutate();
        }}
      >
        <Labelled label="Days; 0 keeps them for ever">
          <input className="field fig w-28" type="number" min={0} max={3660} value={shown} onChange={(e) => setDays(e.target.value)} />
        </Labelled>
        <Button type="submit" disabled={days === null || put.isPending}>
          Keep so
        </Button>
      </form>
      <Trouble error={q.error ?? put.error} />
    </section>
  );
}

function Person() {
  const [email, setEmail] = useState("");
  const [found, setFound] = useState<Schema<"RelayPersonData"> | null>(null);
  const look = useMutation({
    mutationFn: () => take(api.GET("/api/v1/persons/{email}", { params: { path: { email } } })),
    onSuccess: setFound,
    onError: () => setFound(null),
  });
  const erase = useMutation({
    mutationFn: () => take(api.DELETE("/api/v1/persons/{email}", { params: { path: { email: found?.email ?? "" } } })),
    onSuccess: () => setFound(null),
  });
  const save = () => {
    const a = document.createElement("a");
    a.href = URL.createObjectURL(new Blob([JSON.stringify(found, null, 2)], { type: "application/json" }));
    a.download = "person.json";
    a.click();
    URL.revokeObjectURL(a.href);
  };
  return (
    <section>
      <h2>One person</h2>
      <p className="mb-2 max-w-prose text-quiet">All that is kept of somebody who asks, to be handed over or removed.</p>
      <form
        className="flex items-end gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          look.mutate();
        }}
      >
        <Labelled label="E-mail">
          <input className="field w-72" type="email" required value={email} onChange={(e) => setEmail(e.target.value)} />
        </Labelled>
        <Button type="submit" disabled={look.isPending}>
          Look
        </Button>
      </form>
      <Trouble error={look.error ?? erase.error} />
      {erase.data && !found && (
        <p className="mt-2">
          <Lamp state="go">{`Removed from ${erase.data.orders} orders`}</Lamp>
        </p>
      )}
      {found && (
        <div className="mt-3">
          <p>
            {found.customers
              .map((c) => c.name)
              .filter((n, i, all) => all.indexOf(n) === i)
              .join(", ")}
            : {found.orders.length} {found.orders.length === 1 ? "order" : "orders"} on {found.customers.length}{" "}
            {found.customers.length === 1 ? "channel" : "channels"}
          </p>
          <div className="mt-2 flex gap-2">
            <Button onClick={save}>Save as a file</Button>
            <Button onClick={() => erase.mutate()} disabled={erase.isPending}>
              Remove personal data from {found.orders.length} orders
            </Button>
          </div>
        </div>
      )}
    </section>
  );
}

function Looks() {
  const q = useQuery({ queryKey: ["looks"], queryFn: () => take(api.GET("/api/v1/looks", { params: { query: { limit: 12 } } })) });
  return (
    <section>
      <h2>Who looked</h2>
      <p className="mb-2 text-quiet">At orders with personal data, at searches and tables; the newest first.</p>
      <Trouble error={q.error} />
      <table className="ledger">
        <tbody>
          {q.data?.map((l) => (
            <tr key={l.id}>
              <td className="whitespace-nowrap">
                <When at={l.at} />
              </td>
              <td>{l.who}</td>
              <td>
                {l.thing} <span className="code">{l.key}</span>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {q.data?.length === 0 && <p className="py-2 text-quiet">Nobody yet.</p>}
    </section>
  );
}

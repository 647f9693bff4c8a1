import { joinQuery } from "../../api/queries";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { api, take, type Schema } from "../../api/client";
import { Button, Head, Loading, Sheet, Trouble } from "../../parts/controls";
import { Switch } from "../../parts/fields";
import { LampShape, type LampState } from "../../parts/lamp";
import { AccessForm, Verdict } from "../../shared/joining/access";
import { FirstImport } from "./firstimport";
import type { Join } from "../../shared/joining/part";
import { Preview } from "../../shared/joining/preview";
import { SettingsForm } from "../../shared/joining/settings";

type Step = { key: string; title: string; check?: string };

/** The steps that a system needs, in the order of the work. */
function stepsOf(j: Join): Step[] {
  const has = (key: string) => j.checklist.some((c) => c.key === key);
  return [
    { key: "access", title: "Access", check: "account" },
    { key: "identity", title: "Is it the right account?", check: "identity" },
    { key: "settings", title: "Settings", check: has("location") ? "location" : undefined },
    { key: "feeds", title: "What moves", check: "feeds" },
    ...(has("import") ? [{ key: "import", title: "First import", check: "import" }] : []),
    ...(has("preview") ? [{ key: "preview", title: "What sending stock changes", check: "preview" }] : []),
    { key: "on", title: "Switch on" },
  ];
}

/** A connection is set up step by step; it can be left at any point and resumed. */
export default function JoinPage() {
  const { code = "" } = useParams();
  const [search, setSearch] = useSearchParams();
  const navigate = useNavigate();
  const client = useQueryClient();
  const q = useQuery(joinQuery(code));
  const refresh = () => {
    for (const key of ["join", "connections", "connection", "preview"]) void client.invalidateQueries({ queryKey: [key] });
  };
  const [giving, setGiving] = useState(false);
  const drop = useMutation({
    mutationFn: () => take(api.DELETE("/api/v1/connections/{code}/join", { params: { path: { code } } })),
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: ["connections"] });
      void navigate("/connections");
    },
  });
  if (q.isPending) return <Loading />;
  if (q.error) return <Trouble error={q.error} />;
  const j = q.data;
  const steps = stepsOf(j);
  const state = (s: Step) => j.checklist.find((c) => c.key === s.check);
  const first = steps.find((s) => s.check && !state(s)?.done && (state(s)?.required || s.key === "import")) ?? steps[steps.length - 1];
  const at = steps.find((s) => s.key === search.get("step")) ?? first;
  const go = (key: string) => setSearch({ step: key }, { replace: false });
  const next = () => {
    const i = steps.findIndex((s) => s.key === at?.key);
    go(steps[Math.min(i + 1, steps.length - 1)]?.key ?? "on");
  };
  const done = j.connection.state !== "joining";
  return (
    <>
      <Head
        tab={`Set-up of ${j.connection.name}`}
        title={done ? j.connection.name : `Join ${j.connection.name}`}
        sub={
          <span className="flex flex-wrap gap-x-4">
            <span>
              {j.connector.title}, {j.connector.side}
            </span>
            {j.connection.test && <span className="text-caution">in test</span>}
            <span>{done ? "The set-up is complete." : "Every step is kept; you can leave and come back."}</span>
          </span>
        }
      >
        {done ? (
          <Link to={`/connections/${code}`} className="underline decoration-rule underline-offset-4">
            To the connection
          </Link>
        ) : (
          <Button onClick={() => setGiving(true)}>Give up</Button>
        )}
      </Head>
      <div className="md:grid md:grid-cols-[250px_minmax(0,1fr)] md:gap-8">
        <ol className="relative mb-5 self-start" aria-label="Steps">
          <li aria-hidden="true" className="absolute top-3 bottom-3 left-[7.5px] w-px bg-rule" />
          {steps.map((s) => {
            const c = state(s);
            const lamp: LampState =
              s.key === "on"
                ? done
                  ? "go"
                  : j.ready
                    ? "busy"
                    : "idle"
                : s.key === "settings" && !c
                  ? "go"
                  : c?.done
                    ? "go"
                    : c?.required
                      ? "caution"
                      : "idle";
            const current = s.key === at?.key;
            return (
              <li key={s.key} className="relative">
                <button
                  type="button"
                  onClick={() => go(s.key)}
                  aria-current={current ? "step" : undefined}
                  className={`flex w-full items-start gap-3 py-1.5 text-left ${current ? "" : "text-quiet hover:text-ink"}`}
                >
                  <span className="mt-[3px] flex h-4 w-4 shrink-0 items-center justify-center rounded-full bg-paper">
                    <LampShape state={lamp} size={12} />
                  </span>
                  <span>
                    <span className={current ? "font-semibold" : ""}>{s.title}</span>
                    <span className="block text-[12px] text-quiet">
                      {c?.done ? c.hint : c ? (c.required ? "to be decided" : "optional") : ""}
                    </span>
                  </span>
                </button>
              </li>
            );
          })}
        </ol>
        <section className="min-w-0 max-w-[860px]" aria-live="polite">
          <h2 className="mb-2 text-[16px]!">{at?.title}</h2>
          {at?.key === "access" && <AccessForm join={j} onDone={(ok) => (refresh(), ok && go("identity"))} />}
          {at?.key === "identity" && (
            <Identity
              join={j}
              onDone={(c, yes) => (c !== code ? void navigate(`/connections/${c}/join`) : (refresh(), go(yes ? "settings" : "access")))}
            />
          )}
          {at?.key === "settings" && <SettingsForm join={j} onSaved={() => (refresh(), next())} verb="Keep and go on" />}
          {at?.key === "feeds" && <Feeds join={j} onChanged={refresh} onNext={next} />}
          {at?.key === "import" && <FirstImport join={j} onNext={next} onChanged={refresh} />}
          {at?.key === "preview" && <Preview code={code} onSeen={refresh} onNext={next} />}
          {at?.key === "on" && <SwitchOn join={j} onDone={refresh} go={go} />}
        </section>
      </div>
      <Sheet open={giving} onClose={() => setGiving(false)} title={`Give up joining ${j.connection.name}`}>
        <p className="mb-4">
          Nothing of this set-up stays: neither the access nor what was brought over of listings. Items that were created stay.
        </p>
        <Trouble error={drop.error} />
        <Button kind="main" onClick={() => drop.mutate()} disabled={drop.isPending}>
          Give up
        </Button>
      </Sheet>
    </>
  );
}

function Identity({ join, onDone }: { join: Join; onDone: (code: string, yes: boolean) => void }) {
  const code = join.connection.code;
  const say = useMutation({
    mutationFn: (yes: boolean) =>
      take(api.POST("/api/v1/connections/{code}/confirm", { params: { path: { code } }, body: { number: join.identity.number, yes } })),
    onSuccess: (j, yes) => onDone(j.connection.code, yes),
  });
  if (!join.identity.number)
    return <p className="text-quiet">Give the access first; then the name and number of the account on the other side stand here.</p>;
  const site = join.connector.sites.find((s) => s.code === join.connection.site);
  return (
    <>
      {join.last && <Verdict tested={join.last} />}
      <dl className="mb-4 grid grid-cols-[max-content_1fr] gap-x-6 gap-y-1 border-y border-rule py-3">
        <dt className="text-quiet">Name there</dt>
        <dd className="text-[16px] font-medium">{join.identity.name}</dd>
        <dt className="text-quiet">Number</dt>
        <dd className="code text-[14px]!">{join.identity.number}</dd>
        {join.identity.country && (
          <>
            <dt className="text-quiet">Country</dt>
            <dd>{join.identity.country}</dd>
          </>
        )}
        {site && (
          <>
            <dt className="text-quiet">Site</dt>
            <dd>{site.name}</dd>
          </>
        )}
        <dt className="text-quiet">At</dt>
        <dd className="code">{join.connection.base_url}</dd>
      </dl>
      {join.connection.account_no ? (
        <p className="text-quiet">You confirmed that this is the account that is meant.</p>
      ) : (
        <>
          <p className="mb-3 max-w-prose">
            People join the wrong account when they are signed in to another one, or picked another country. Is this the account whose
            orders are to come in here?
          </p>
          {join.last?.back && (
            <p className="mb-3 max-w-prose">
              This account was joined before, as <span className="code">{join.last.back}</span>. It goes on where that ended, without one
              order twice.
            </p>
          )}
          <Trouble error={say.error} />
          <p className="flex gap-2">
            <Button kind="main" onClick={() => say.mutate(true)} disabled={say.isPending}>
              Yes, this one
            </Button>
            <Button onClick={() => say.mutate(false)} disabled={say.isPending}>
              No, forget it
            </Button>
          </p>
        </>
      )}
    </>
  );
}

const about: Record<string, string> = {
  "orders in": "Orders come to us as they are placed and changed.",
  "listings in": "What is listed there, its price and the quantity it shows.",
  "items in": "Items are added and changed by what they say.",
  "customers in": "Customers are added and changed by what they say.",
  "stock in": "Quantities that somebody sets there.",
  "dispatch in": "Parcels that left elsewhere; the order and its channel follow.",
  "tracking in": "Where parcels are.",
  "stock out": "Our quantities replace what is shown there.",
  "dispatch out": "Tracking numbers are written back.",
  "labels out": "Labels are bought.",
  "return labels out": "Labels are bought by which buyers send goods back.",
  "voids out": "Labels that are not used are voided.",
  "handovers out": "The day is closed with the carrier.",
};

function Feeds({ join, onChanged, onNext }: { join: Join; onChanged: () => void; onNext: () => void }) {
  const code = join.connection.code;
  const set = useMutation({
    mutationFn: (f: Schema<"Feed"> & { to: boolean }) =>
      take(
        api.PATCH("/api/v1/connections/{code}/feeds/{kind}", {
          params: { path: { code, kind: f.kind }, header: { "If-Match": `"${f.revision}"` } },
          body: { on: f.to, schedule: f.schedule },
        }),
      ),
    onSettled: onChanged,
  });
  const seen = !!join.connection.previewed;
  return (
    <>
      <p className="mb-2 max-w-prose text-quiet">Each direction has its own switch. Nothing moves before the connection is switched on.</p>
      <table className="ledger mb-3">
        <tbody>
          {join.connection.feeds.map((f) => {
            const locked = f.kind === "stock out" && !f.on && !seen;
            return (
              <tr key={f.kind}>
                <td className="w-12">
                  <Switch label={`${f.kind} on`} on={f.on} disabled={set.isPending || locked} onChange={(to) => set.mutate({ ...f, to })} />
                </td>
                <td className="w-36 font-medium">{f.kind}</td>
                <td>
                  {about[f.kind]}
                  {locked && (
                    <span className="block text-[12px] text-caution">
                      Off until you have seen what it changes; wrong counts would wipe good numbers.
                    </span>
                  )}
                </td>
                <td className="code w-32 text-quiet">
                  {f.ways.includes("read") && f.every ? `every ${f.every}` : f.ways.includes("push") ? "as it happens" : ""}
                </td>
              </tr>
            );
          })}
          {join.connection.feeds.length === 0 && (
            <tr>
              <td className="text-quiet">Nothing moves by itself over this connection; it answers what we ask.</td>
            </tr>
          )}
        </tbody>
      </table>
      {join.connector.can.pushes && (
        <p className="mb-3 text-[12px] text-quiet">
          The other side pushes to <span className="code">{location.origin + (join.connection.push_path ?? "")}</span>
        </p>
      )}
      <Trouble error={set.error} />
      <Button kind="main" onClick={onNext}>
        Go on
      </Button>
    </>
  );
}

function SwitchOn({ join, onDone, go }: { join: Join; onDone: () => void; go: (key: string) => void }) {
  const code = join.connection.code;
  const on = useMutation({
    mutationFn: () => take(api.POST("/api/v1/connections/{code}/switch-on", { params: { path: { code } } })),
    onSuccess: onDone,
  });
  const step: Record<string, string> = {
    account: "access",
    identity: "identity",
    location: "settings",
    feeds: "feeds",
    import: "import",
    preview: "preview",
  };
  const done = join.connection.state === "on";
  return (
    <>
      <table className="ledger mb-4">
        <tbody>
          {join.checklist.map((c) => (
            <tr
              key={c.key}
              data-open=""
              tabIndex={0}
              onClick={() => go(step[c.key] ?? "on")}
              onKeyDown={(e) => e.key === "Enter" && go(step[c.key] ?? "on")}
            >
              <td className="w-8">
                <LampShape state={c.done ? "go" : c.required ? "caution" : "idle"} />
              </td>
              <td>{c.text}</td>
              <td className="text-quiet">{c.hint}</td>
              <td className="r text-quiet">{c.done ? "done" : c.required ? "missing" : "optional"}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <Trouble error={on.error} />
      {done ? (
        <p className="flex items-center gap-2">
          <LampShape state="go" /> {join.connection.name} is at work.
          <Link to={`/connections/${code}`} className="underline decoration-rule underline-offset-4">
            See how it stands
          </Link>
        </p>
      ) : (
        <Button kind="main" onClick={() => on.mutate()} disabled={!join.ready || on.isPending}>
          Put to work
        </Button>
      )}
    </>
  );
}

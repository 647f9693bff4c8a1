import { locationsQuery, may, meQuery, rulesQuery } from "../../api/queries";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, take, type Schema } from "../../api/client";
import { Button, Head, Loading, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import { count } from "../../parts/format";
import { Lamp } from "../../parts/lamp";
import { Conditions } from "../../shared/rules/conditions";
import { useWords, type Action, type Comparison } from "../../shared/rules/words";

type Read = Schema<"Reading">;
type Rehearsal = Schema<"Rehearsed">;

/** One rule: the sentence and the text beside it are the same thing, and either can be edited. */
export default function EditRule() {
  const { id = "" } = useParams();
  const rules = useQuery(rulesQuery);
  const words = useWords();
  if (rules.isPending || words.isPending) return <Loading />;
  if (rules.error || words.error) return <Trouble error={rules.error ?? words.error} />;
  const rule = rules.data.find((r) => String(r.id) === id);
  if (id !== "new" && !rule) return <Trouble error="There is no such rule; somebody may have removed it." />;
  return <Form key={id} rule={rule} place={rules.data.findIndex((r) => r === rule)} words={words.data} />;
}

function Form({ rule, place, words }: { rule?: Schema<"Rule">; place: number; words: NonNullable<ReturnType<typeof useWords>["data"]> }) {
  const navigate = useNavigate();
  const client = useQueryClient();
  const me = useQuery(meQuery);
  const [name, setName] = useState(rule?.name ?? "");
  const [text, setText] = useState({ when: rule?.when ?? "", then: rule?.then ?? "" });
  const [read, setRead] = useState<Read | null>(
    rule
      ? { when: rule.when, then: rule.then, sentence: rule.sentence, actions: rule.actions }
      : { when: "", then: "", sentence: { any: false, conditions: [] }, actions: [] },
  );
  const [seen, setSeen] = useState("");
  const asked = useRef(0);
  const reading = useMutation({ mutationFn: (body: Schema<"RuleTextInputBody">) => take(api.POST("/api/v1/rules/read", { body })) });
  const ask = (body: Schema<"RuleTextInputBody">) => {
    const n = ++asked.current;
    reading.mutate(body, {
      onSuccess: (r) => {
        if (n !== asked.current) return;
        setRead(r);
        if (!r.problem || body.sentence || body.actions) setText({ when: r.when, then: r.then });
      },
    });
  };
  // What is typed as text is read after a moment; what is built as a sentence is written at once.
  const typing = useRef<ReturnType<typeof setTimeout>>(undefined);
  const type = (to: typeof text) => {
    setText(to);
    clearTimeout(typing.current);
    typing.current = setTimeout(() => ask(to), 300);
  };
  useEffect(() => () => clearTimeout(typing.current), []);
  const build = (conditions: Comparison[], any: boolean, actions: Action[]) => {
    setRead((r) => ({ ...(r as Read), sentence: { any, conditions }, actions }));
    // A part that is not filled in yet stays in the sentence and out of the text.
    const whole = conditions.filter((c) => c.values.length > 0 && c.values.every((v) => v !== ""));
    const acts = actions.filter((a) => a.value.trim() !== "");
    const n = ++asked.current;
    reading.mutate(
      { sentence: { any, conditions: whole }, actions: acts },
      {
        onSuccess: (r) =>
          n === asked.current &&
          (setText({ when: r.when, then: acts.length ? r.then : "" }),
          setRead((old) => ({
            ...(old as Read),
            problem: acts.length === actions.length && whole.length === conditions.length ? r.problem : undefined,
          }))),
      },
    );
  };
  const change = {
    id: rule?.id ?? 0,
    revision: rule?.revision ?? 0,
    name: name || "New rule",
    when: text.when,
    then: text.then,
    position: 0,
  };
  const now = JSON.stringify([text, rule?.revision]);
  const rehearse = useMutation({
    mutationFn: (remove: boolean) => take(api.POST("/api/v1/rules/rehearse", { body: { ...change, on: true, remove, orders: 10_000 } })),
    onSuccess: () => setSeen(now),
  });
  const save = useMutation({
    mutationFn: (how: { on: boolean; remove?: boolean }) => take(api.POST("/api/v1/rules", { body: { ...change, name, ...how } })),
    onSuccess: (list) => {
      client.setQueryData(["rules"], list);
      void navigate("/rules");
    },
  });
  const lead = may(me.data, "setup");
  const s = read?.sentence;
  const ready = name.trim() !== "" && text.then.trim() !== "" && !read?.problem;
  return (
    <>
      <Head
        title={rule ? rule.name : "New rule"}
        sub={
          rule
            ? `Number ${place + 1} of the rules, ${rule.on ? "on" : "off"}`
            : "It comes after the others, and stays off until it is switched on"
        }
      >
        <Link className="underline decoration-rule underline-offset-4 hover:decoration-ink" to="/rules">
          All rules
        </Link>
      </Head>
      <div className="grid grid-cols-[minmax(0,1.1fr)_minmax(0,1fr)] gap-8 max-lg:grid-cols-1">
        <div className="flex flex-col gap-5">
          <Labelled label="Name">
            <input className="field w-full" value={name} maxLength={120} onChange={(e) => setName(e.target.value)} disabled={!lead} />
          </Labelled>
          <section aria-label="As a sentence" className="border-t border-rule pt-3">
            <h2 className="mb-2">As a sentence</h2>
            {s ? (
              <Builder
                words={words}
                any={s.any}
                conditions={s.conditions}
                actions={read?.actions ?? []}
                disabled={!lead}
                onChange={build}
              />
            ) : (
              <p className="text-quiet">The condition says more than a sentence can; edit it as text.</p>
            )}
          </section>
          <section aria-label="As text" className="border-t border-rule pt-3">
            <h2 className="mb-2">The same as text</h2>
            <div className="grid gap-3">
              <Labelled label="When" help="A condition in CEL; empty for every order. Amounts are minor units, weights grams.">
                <textarea
                  className="field code w-full"
                  rows={3}
                  spellCheck={false}
                  value={text.when}
                  disabled={!lead}
                  onChange={(e) => type({ ...text, when: e.target.value })}
                />
              </Labelled>
              <Labelled label="Then" help={`Actions with commas between them: ${words.actions.map((a) => a.do).join(", ")}.`}>
                <textarea
                  className="field code w-full"
                  rows={2}
                  spellCheck={false}
                  value={text.then}
                  disabled={!lead}
                  onChange={(e) => type({ ...text, then: e.target.value })}
                />
              </Labelled>
              {read?.problem && (
                <p role="alert">
                  <Lamp state="stop">
                    <span className="whitespace-normal">{read.problem}</span>
                  </Lamp>
                </p>
              )}
            </div>
          </section>
        </div>
        <section aria-label="Rehearsed" className="flex flex-col gap-3">
          <div className="flex flex-wrap items-center gap-2">
            <Button onClick={() => rehearse.mutate(false)} disabled={!ready || rehearse.isPending}>
              {rehearse.isPending ? "Going through past orders …" : "See what it would have changed"}
            </Button>
            {rule?.on && lead && (
              <Button kind="quiet" onClick={() => rehearse.mutate(true)} disabled={rehearse.isPending}>
                And without it?
              </Button>
            )}
          </div>
          <Trouble error={rehearse.error} />
          {rehearse.data ? (
            <Rehearsed r={rehearse.data} old={seen !== now} />
          ) : (
            <p className="max-w-prose text-quiet">
              The newest 10,000 orders are decided on again, as they were when they came in, with the rules as they are and as they would
              be. Nothing is changed.
            </p>
          )}
          {lead && (
            <div className="mt-2 flex flex-wrap items-center gap-2 border-t border-rule pt-3">
              <Button
                kind="main"
                onClick={() => save.mutate({ on: true })}
                disabled={!ready || save.isPending || seen !== now}
                title={seen !== now ? "See first what it would have changed" : ""}
              >
                {rule?.on ? "Keep the change" : "Switch it on"}
              </Button>
              <Button onClick={() => save.mutate({ on: false })} disabled={!ready || save.isPending}>
                {rule?.on ? "Keep it, switched off" : "Keep it, off"}
              </Button>
              {rule && (
                <Button kind="quiet" onClick={() => save.mutate({ on: false, remove: true })} disabled={save.isPending}>
                  Remove this rule
                </Button>
              )}
              {seen !== now && <span className="text-[12px] text-quiet">It can be switched on once its effect was seen.</span>}
            </div>
          )}
          <Trouble error={save.error} />
        </section>
      </div>
    </>
  );
}

function Rehearsed({ r, old }: { r: Rehearsal; old: boolean }) {
  return (
    <div className={old ? "opacity-50" : ""} data-testid="rehearsal">
      <p className="mb-2">
        <span className="fig text-[30px] leading-9 font-medium">{count(r.changed)}</span> of {count(r.seen)} past orders would have been
        decided on differently
        {old && <span className="text-caution"> · the rule was edited since</span>}
      </p>
      {r.orders.length > 0 && (
        <div className="max-h-[420px] overflow-auto border-y border-rule">
          <table className="ledger">
            <tbody>
              {r.orders.map((o) => (
                <tr key={o.number}>
                  <td className="w-28">
                    <Link
                      className="code underline decoration-rule underline-offset-4 hover:decoration-ink"
                      to={`/orders/${encodeURIComponent(o.number)}`}
                      target="_blank"
                    >
                      {o.number}
                    </Link>
                  </td>
                  <td>{o.changes.join("; ")}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      {r.changed > r.orders.length && <p className="mt-1 text-[12px] text-quiet">The first {count(r.orders.length)} are shown.</p>}
    </div>
  );
}

/** Builds a condition and actions as a sentence. */
function Builder({
  words,
  any,
  conditions,
  actions,
  disabled,
  onChange,
}: {
  words: NonNullable<ReturnType<typeof useWords>["data"]>;
  any: boolean;
  conditions: Comparison[];
  actions: Action[];
  disabled: boolean;
  onChange: (c: Comparison[], any: boolean, a: Action[]) => void;
}) {
  const setAction = (i: number, a: Action | null) =>
    onChange(conditions, any, a ? actions.map((x, j) => (j === i ? a : x)) : actions.filter((_, j) => j !== i));
  return (
    <fieldset disabled={disabled} className="grid gap-2">
      <div className="text-quiet">{conditions.length === 0 ? "When an order arrives," : "When"}</div>
      <Conditions words={words} any={any} conditions={conditions} onChange={(c, or) => onChange(c, or, actions)} />
      <div className="text-quiet">then</div>
      {actions.map((a, i) => (
        <div key={i} className="flex flex-wrap items-center gap-2">
          {i > 0 && <span className="text-quiet">and</span>}
          <select
            aria-label="Action"
            className="field"
            value={a.do}
            onChange={(e) => setAction(i, { do: e.target.value as Action["do"], value: "" })}
          >
            {words.actions.map((k) => (
              <option key={k.do} value={k.do}>
                {k.label}
              </option>
            ))}
          </select>
          <ActionValue
            a={a}
            values={words.actions.find((k) => k.do === a.do)?.values}
            onChange={(value) => setAction(i, { ...a, value })}
          />
          <button
            type="button"
            aria-label="Take this action away"
            className="min-h-6 min-w-6 text-quiet hover:text-ink"
            onClick={() => setAction(i, null)}
          >
            ×
          </button>
        </div>
      ))}
      <div>
        <Button kind="quiet" onClick={() => onChange(conditions, any, [...actions, { do: "tag", value: "" }])}>
          Add an action
        </Button>
      </div>
    </fieldset>
  );
}

function ActionValue({ a, values, onChange }: { a: Action; values?: string[]; onChange: (value: string) => void }) {
  const places = useQuery({ ...locationsQuery, enabled: a.do === "location" });
  const profiles = useQuery({ queryKey: ["profiles"], queryFn: () => take(api.GET("/api/v1/profiles")), enabled: a.do === "profile" });
  const routing = useQuery({ queryKey: ["routing"], queryFn: () => take(api.GET("/api/v1/routing")), enabled: a.do === "weigh" });
  const known: Record<string, (readonly [string, string])[] | undefined> = {
    location: places.data?.map((p) => [p.code, p.name] as const),
    profile: profiles.data?.map((p) => [p.code, p.name] as const),
    weigh: routing.data && Object.keys(routing.data.policy.exceptions ?? {}).map((n) => [n, n] as const),
  };
  const options = a.do in known ? known[a.do] : values?.map((v) => [v, v] as const);
  if (a.do === "weigh" && options?.length === 0)
    return <span className="text-quiet">The routing policy has no exceptions yet: Settings, Routing.</span>;
  if (options)
    return (
      <select aria-label="Value of the action" className="field" value={a.value} onChange={(e) => onChange(e.target.value)}>
        <option value="">choose …</option>
        {options.map(([v, t]) => (
          <option key={v} value={v}>
            {t}
          </option>
        ))}
      </select>
    );
  return (
    <input
      aria-label="Value of the action"
      className="field w-48"
      value={a.value}
      maxLength={200}
      onChange={(e) => onChange(e.target.value)}
    />
  );
}

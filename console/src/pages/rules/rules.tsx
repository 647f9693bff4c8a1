import { may, meQuery, rulesQuery } from "../../api/queries";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate } from "react-router";
import { api, take, type Schema } from "../../api/client";
import { Button, Empty, Head, Loading, Trouble } from "../../parts/controls";
import { Switch } from "../../parts/fields";
import { When } from "../../parts/format";
import { phrase, useWords, type Field } from "../../shared/rules/words";

type Rule = Schema<"Rule">;

export const keptOf = (r: Rule) => ({ id: r.id, revision: r.revision, name: r.name, on: r.on, when: r.when, then: r.then, position: 0 });

/** A rule read out: when, then. */
export function Sentence({
  rule: r,
  fields,
  labels,
}: {
  rule: Pick<Rule, "when" | "then" | "sentence" | "actions">;
  fields: Field[];
  labels: Record<string, string>;
}) {
  const s = r.sentence;
  return (
    <span>
      <span className="text-quiet">When </span>
      {!r.when.trim() ? (
        "an order arrives"
      ) : s ? (
        s.conditions.map((c, i) => (
          <span key={i}>
            {i > 0 && <span className="text-quiet">{s.any ? " or " : " and "}</span>}
            {phrase(c, fields)}
          </span>
        ))
      ) : (
        <code className="code">{r.when}</code>
      )}
      <span className="text-quiet">, then </span>
      {r.actions.map((a, i) => (
        <span key={i}>
          {i > 0 && <span className="text-quiet"> and </span>}
          {labels[a.do] ?? a.do} <strong className="font-medium">{a.value}</strong>
        </span>
      ))}
    </span>
  );
}

export default function Rules() {
  const client = useQueryClient();
  const navigate = useNavigate();
  const me = useQuery(meQuery);
  const q = useQuery(rulesQuery);
  const words = useWords();
  const change = useMutation({
    mutationFn: (body: Schema<"RelayRuleChange">) => take(api.POST("/api/v1/rules", { body })),
    onSuccess: (list) => client.setQueryData(["rules"], list),
    onError: () => void client.invalidateQueries({ queryKey: ["rules"] }),
  });
  const lead = may(me.data, "setup");
  const fields = words.data?.fields ?? [];
  const labels = Object.fromEntries((words.data?.actions ?? []).map((a) => [a.do, a.label]));
  const list = q.data ?? [];
  return (
    <>
      <Head title="Rules" sub="Applied to each order once, from top to bottom, when it can be worked on">
        {lead && (
          <Button kind="main" onClick={() => void navigate("/rules/new")}>
            New rule
          </Button>
        )}
      </Head>
      <Trouble error={q.error ?? change.error} />
      {q.isPending && <Loading />}
      {q.isSuccess && list.length === 0 && (
        <Empty
          action={
            lead ? (
              <Link to="/rules/new" className="underline decoration-rule underline-offset-4">
                Write the first rule
              </Link>
            ) : undefined
          }
        >
          No rules yet: each order goes where there is stock. A rule says what is different for some of them, such as “when the country is
          XE, then tag it export”. Before it is switched on, it shows which past orders it would have changed.
        </Empty>
      )}
      {list.length > 0 && (
        <ol className="border-t border-rule">
          {list.map((r, i) => (
            <li key={r.id} className="grid grid-cols-[2rem_3rem_minmax(0,1fr)_auto] items-start gap-3 border-b border-rule py-3">
              <span className="fig pt-0.5 text-quiet">{i + 1}</span>
              <span className="pt-1">
                <Switch
                  label={`Switch ${r.name} ${r.on ? "off" : "on"}`}
                  on={r.on}
                  disabled={!lead || change.isPending}
                  onChange={(on) => (on ? void navigate(`/rules/${r.id}`) : change.mutate({ ...keptOf(r), on }))}
                />
              </span>
              <div className={r.on ? "" : "text-quiet"}>
                <Link to={`/rules/${r.id}`} className="font-medium hover:underline">
                  {r.name}
                </Link>
                <div>
                  <Sentence rule={r} fields={fields} labels={labels} />
                </div>
                <div className="text-[12px] text-quiet">
                  {r.broken ? (
                    <span className="text-stop">{r.broken}</span>
                  ) : (
                    <>
                      changed by {r.changed_by} <When at={r.changed_at} />
                    </>
                  )}
                </div>
              </div>
              {lead && (
                <div className="flex gap-1">
                  <Button
                    aria-label={`Move ${r.name} up`}
                    disabled={i === 0 || change.isPending}
                    onClick={() => change.mutate({ ...keptOf(r), position: i })}
                  >
                    ↑
                  </Button>
                  <Button
                    aria-label={`Move ${r.name} down`}
                    disabled={i === list.length - 1 || change.isPending}
                    onClick={() => change.mutate({ ...keptOf(r), position: i + 2 })}
                  >
                    ↓
                  </Button>
                </div>
              )}
            </li>
          ))}
        </ol>
      )}
      {list.length > 0 && (
        <p className="mt-3 max-w-prose text-[12px] text-quiet">
          What an earlier rule tagged, a later one sees. Where two decide the same thing, the later one counts. A rule is switched on from
          its own page, after a look at what it would have changed.
        </p>
      )}
    </>
  );
}

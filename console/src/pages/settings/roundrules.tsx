import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, take, type Schema } from "../../api/client";
import { locationsQuery, roundRulesQuery } from "../../api/queries";
import { Button, Empty, Loading, Sheet, Trouble } from "../../parts/controls";
import { Labelled, Switch } from "../../parts/fields";
import { codeOf, NameAndCode } from "../../shared/company/named";

type Rule = Schema<"StoreRoundRule">;

const units = ["Any order", "Orders of a single unit", "Orders of more than one unit"];

/** Rules by which many orders are picked in one walk. */
export function RoundRules() {
  const client = useQueryClient();
  const q = useQuery(roundRulesQuery);
  const [edit, setEdit] = useState<Rule | "new" | null>(null);
  const again = () => {
    setEdit(null);
    for (const queryKey of [roundRulesQuery.queryKey, ["setting-changes"]]) void client.invalidateQueries({ queryKey });
  };
  const drop = useMutation({
    mutationFn: (code: string) => take(api.DELETE("/api/v1/round-rules/{code}", { params: { path: { code } } })),
    onSuccess: again,
  });
  return (
    <section aria-label="Rounds">
      <div className="mb-1 flex items-baseline justify-between">
        <h2>Rounds</h2>
        <Button onClick={() => setEdit("new")}>Add a rule</Button>
      </div>
      <p className="mb-2 max-w-prose text-quiet">
        What is picked in one walk. A picker begins the next round with a press: the most urgent order that a rule takes, and those that lie
        on its way.
      </p>
      <Trouble error={q.error ?? drop.error} />
      {q.isPending && <Loading />}
      {q.data?.length === 0 && <Empty>No rule yet. Rounds can be made by hand: mark orders under Picking.</Empty>}
      {q.data && q.data.length > 0 && (
        <table className="ledger">
          <thead>
            <tr>
              <th>Code</th>
              <th>Name</th>
              <th>Place</th>
              <th className="r">Slots</th>
              <th>Takes</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {q.data.map((r) => (
              <tr key={r.code}>
                <td className="code">{r.code}</td>
                <td>{r.name}</td>
                <td className="code">{r.location}</td>
                <td className="r fig">{r.slots}</td>
                <td>
                  {units[r.units]}
                  {r.services.length > 0 && `, ${r.services.join(" or ")}`}
                  {r.today && ", leaving today"}
                </td>
                <td className="r">
                  <Button kind="quiet" aria-label={`Change ${r.code}`} onClick={() => setEdit(r)}>
                    Change
                  </Button>{" "}
                  <Button kind="quiet" aria-label={`Remove ${r.code}`} disabled={drop.isPending} onClick={() => drop.mutate(r.code)}>
                    Remove
                  </Button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <Sheet open={edit !== null} onClose={() => setEdit(null)} title={edit === "new" ? "A rule for rounds" : "Change the rule"}>
        {edit && <RuleForm was={edit === "new" ? undefined : edit} onDone={again} />}
      </Sheet>
    </section>
  );
}

function RuleForm({ was, onDone }: { was?: Rule; onDone: () => void }) {
  const places = useQuery(locationsQuery);
  const [name, setName] = useState(was?.name ?? "");
  const [code, setCode] = useState(was?.code ?? "");
  const [place, setPlace] = useState(was?.location ?? "");
  const [slots, setSlots] = useState(String(was?.slots ?? 12));
  const [services, setServices] = useState(was?.services.join(", ") ?? "");
  const [kind, setKind] = useState<number>(was?.units ?? 0);
  const [today, setToday] = useState(was?.today ?? false);
  const put = useMutation({
    mutationFn: () =>
      take(
        api.PUT("/api/v1/round-rules/{code}", {
          params: { path: { code: was?.code ?? (code || codeOf(name)) } },
          body: {
            name,
            location: place || (places.data?.[0]?.code ?? ""),
            slots: Number(slots),
            services: services
              .split(",")
              .map((s) => s.trim())
              .filter(Boolean),
            units: kind as 0 | 1 | 2,
            today,
          },
        }),
      ),
    onSuccess: onDone,
  });
  return (
    <form
      className="grid gap-3 sm:grid-cols-2"
      onSubmit={(e) => {
        e.preventDefault();
        put.mutate();
      }}
    >
      <NameAndCode name={name} code={code} fixed={!!was} onName={setName} onCode={setCode} />
      <Labelled label="Place">
        <select className="field w-full" value={place || places.data?.[0]?.code} onChange={(e) => setPlace(e.target.value)}>
          {places.data?.map((p) => (
            <option key={p.code} value={p.code}>
              {p.name}
            </option>
          ))}
        </select>
      </Labelled>
      <Labelled label="Slots on the cart">
        <input
          className="field fig w-full"
          type="number"
          min={1}
          max={60}
          required
          value={slots}
          onChange={(e) => setSlots(e.target.value)}
        />
      </Labelled>
      <Labelled label="Orders">
        <select className="field w-full" value={kind} onChange={(e) => setKind(Number(e.target.value))}>
          {units.map((text, i) => (
            <option key={text} value={i}>
              {text}
            </option>
          ))}
        </select>
      </Labelled>
      <Labelled label="Services" help="Words that buyers wished for, by commas; empty: any">
        <input className="field w-full" value={services} onChange={(e) => setServices(e.target.value)} />
      </Labelled>
      <div className="flex items-center gap-3 sm:col-span-2">
        <Switch label="Only what should leave today" on={today} onChange={setToday} />
        <span>Only what should leave today, by the hours of the place</span>
      </div>
      <div className="sm:col-span-2">
        <Trouble error={put.error} />
        <Button kind="main" type="submit" disabled={put.isPending}>
          {was ? "Keep the change" : "Add"}
        </Button>
      </div>
    </form>
  );
}

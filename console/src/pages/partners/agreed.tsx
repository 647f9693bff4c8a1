import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, take, type Schema } from "../../api/client";
import { companyQuery, locationsQuery, may, meQuery } from "../../api/queries";
import { Button, Empty, Head, Loading, Sheet, Trouble } from "../../parts/controls";
import { Labelled, Switch } from "../../parts/fields";
import { count, minorOf, Money, typedAmount } from "../../parts/format";
import { Lamp } from "../../parts/lamp";
import { partnerStops, Rail } from "../../parts/rail";
import { hasEnded, type Request } from "../../shared/partners/request";

type Partner = Schema<"Partner">;
type Terms = Schema<"RequestTerms">;

/** Whoever ships for us, and what was agreed with them. */
export default function Agreed() {
  const q = useQuery({ queryKey: ["partners"], queryFn: () => take(api.GET("/api/v1/partners")) });
  const company = useQuery(companyQuery);
  const me = useQuery(meQuery);
  const [edit, setEdit] = useState<Partner | null>(null);
  return (
    <>
      <Head title="Partners" tab="Agreed" sub="Whoever ships for us, and what was agreed with them" />
      <Rail label="Partners" stops={partnerStops} />
      <Trouble error={q.error} />
      {q.isPending && <Loading />}
      {q.data?.length === 0 && (
        <Empty>
          No connection can be asked to send anything. Join a warehouse, a maker or a marketplace whose definition has requests, then give
          it a place: Settings, Places, kept by that connection.
        </Empty>
      )}
      <div className="flex flex-col gap-6">
        {q.data
          ?.filter((p) => p.places.length > 0)
          .map((p) => (
            <One
              key={p.code}
              p={p}
              currency={p.terms.currency || (company.data?.currency ?? "EUR")}
              onEdit={may(me.data, "setup") ? () => setEdit(p) : undefined}
            />
          ))}
      </div>
      <Others list={q.data?.filter((p) => p.places.length === 0) ?? []} />
      <Sheet open={!!edit} onClose={() => setEdit(null)} title={edit ? `Agreed with ${edit.name}` : ""}>
        {edit && (
          <EditTerms
            key={edit.code}
            p={edit}
            currency={edit.terms.currency || (company.data?.currency ?? "EUR")}
            onDone={() => setEdit(null)}
          />
        )}
      </Sheet>
    </>
  );
}

function tally(p: Partner, of: (state: Request["state"]) => boolean): number {
  return Object.entries(p.requests).reduce((n, [state, k]) => (of(state as Request["state"]) ? n + k : n), 0);
}

const over = (state: Request["state"]) => hasEnded({ state } as Request);

function Stands({ p }: { p: Partner }) {
  if (!p.asked) return <Lamp state="idle">its requests are switched off</Lamp>;
  if (!p.works) return <Lamp state="idle">paused</Lamp>;
  if (p.test) return <Lamp state="caution">in test: nothing leaves</Lamp>;
  return <Lamp state="go">{p.terms.by_hand ? "asked by a person" : "asked by itself"}</Lamp>;
}

/** Connections that could be asked, and from whose place nothing is planned. */
function Others({ list }: { list: Partner[] }) {
  if (list.length === 0) return null;
  return (
    <p className="mt-6 max-w-prose text-quiet">
      {list.map((p) => p.name).join(", ")} could be asked, too: give it a place whose stock it keeps, under{" "}
      <Link className="underline decoration-rule underline-offset-4 hover:decoration-ink" to="/settings/places">
        Settings, Places
      </Link>
      , and let channels sell from there.
    </p>
  );
}

function One({ p, currency, onEdit }: { p: Partner; currency: string; onEdit?: () => void }) {
  const t = p.terms;
  const places = useQuery(locationsQuery);
  const place = (code: string) => places.data?.find((l) => l.code === code)?.name ?? code;
  const asks = [
    ["a request", t.order],
    ["a line", t.line],
    ["a unit", t.unit],
    ["a parcel", t.parcel],
  ] as const;
  return (
    <section aria-label={p.name} className="border border-rule bg-sheet p-4">
      <div className="mb-2 flex flex-wrap items-baseline justify-between gap-3">
        <div className="flex items-baseline gap-3">
          <h2>{p.name}</h2> <Stands p={p} />
        </div>
        <div className="flex gap-4">
          <Link className="underline decoration-rule underline-offset-4 hover:decoration-ink" to={`/connections/${p.code}`}>
            Its connection
          </Link>
          {onEdit && <Button onClick={onEdit}>Change what was agreed</Button>}
        </div>
      </div>
      <dl className="grid grid-cols-[auto_1fr] gap-x-6 gap-y-1">
        <dt className="text-quiet">Sends from</dt>
        <dd>{p.places.map(place).join(", ")}</dd>
        <dt className="text-quiet">Requests</dt>
        <dd>
          <Link className="underline decoration-rule underline-offset-4 hover:decoration-ink" to={`/requests?partner=${p.code}`}>
            {count(tally(p, (s) => !over(s)))} open
          </Link>
          , {count(p.requests.sent ?? 0)} sent and {count(tally(p, (s) => over(s) && s !== "sent"))} not sent in 30 days
        </dd>
        <dt className="text-quiet">Asks</dt>
        <dd>
          {asks.every(([, n]) => !n) && "nothing was said"}
          {asks.map(
            ([what, n], i) =>
              !!n && (
                <span key={what} className={i ? "ml-3" : ""}>
                  <Money minor={n} currency={currency} /> <span className="text-quiet">{what}</span>
                </span>
              ),
          )}
        </dd>
        <dt className="text-quiet">Asked about</dt>
        <dd>
          after {t.within || 24} hours without a word, and {t.sends || 72} hours after it acknowledged
        </dd>
        {p.differences > 0 && (
          <>
            <dt className="text-quiet">Stock</dt>
            <dd>
              <Link className="underline decoration-rule underline-offset-4 hover:decoration-ink" to={`/partners/stock?partner=${p.code}`}>
                {count(p.differences)} counted otherwise than our books
              </Link>
            </dd>
          </>
        )}
      </dl>
    </section>
  );
}

const figures = [
  ["within", "Hours until it is asked about without a word", "24"],
  ["sends", "Hours until a person is asked, once it acknowledged", "72"],
  ["days", "Days until what it sends arrives", "not said"],
  ["tolerance_percent", "A bill may differ by so many percent", "0"],
] as const;

const amounts = [
  ["order", "A request"],
  ["line", "A line"],
  ["unit", "A unit"],
  ["parcel", "A parcel"],
] as const;

function EditTerms({ p, currency, onDone }: { p: Partner; currency: string; onDone: () => void }) {
  const client = useQueryClient();
  const [t, setT] = useState<Terms>(p.terms);
  const [typed, setTyped] = useState<Record<string, string>>({});
  const save = useMutation({
    mutationFn: async () => {
      const { rows } = await take(api.GET("/api/v1/partner-terms"));
      const others = rows.filter((r) => r.partner !== p.code);
      return take(api.PUT("/api/v1/partner-terms", { body: { rows: [...others, { ...t, partner: p.code }] } }));
    },
    onSuccess: () => {
      for (const key of ["partners", "requests", "setting-changes"]) void client.invalidateQueries({ queryKey: [key] });
      onDone();
    },
  });
  return (
    <form
      aria-label="What was agreed"
      className="flex flex-col gap-4"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate();
      }}
    >
      <div className="flex items-center gap-3">
        <Switch label="A person asks for each order" on={!!t.by_hand} onChange={(on) => setT({ ...t, by_hand: on })} />A person asks for
        each order
      </div>
      <Labelled label="Which items it knows">
        <select className="field" value={t.items || "ours"} onChange={(e) => setT({ ...t, items: e.target.value as Terms["items"] })}>
          <option value="ours">all, by our SKU where nothing else is said</option>
          <option value="named">only those of which its own name is said</option>
        </select>
      </Labelled>
      <fieldset className="grid grid-cols-2 gap-3">
        <legend className="mb-1 text-quiet">
          What it asks, in {currency}: it is weighed when places are chosen, and compared with its bills
        </legend>
        {amounts.map(([key, label]) => (
          <Labelled key={key} label={label}>
            <input
              className="field fig w-28 text-right"
              inputMode="decimal"
              placeholder="0"
              value={typed[key] ?? (t[key] ? typedAmount(t[key], currency) : "")}
              onChange={(e) => {
                setTyped({ ...typed, [key]: e.target.value });
                setT({ ...t, [key]: minorOf(e.target.value || "0", currency) });
              }}
            />
          </Labelled>
        ))}
      </fieldset>
      <fieldset className="grid grid-cols-2 gap-3">
        {figures.map(([key, label, usual]) => (
          <Labelled key={key} label={label}>
            <input
              className="field fig w-28 text-right"
              type="number"
              min={0}
              placeholder={usual}
              value={t[key] || ""}
              onChange={(e) => setT({ ...t, [key]: Number(e.target.value) || 0 })}
            />
          </Labelled>
        ))}
      </fieldset>
      <Trouble error={save.error} />
      <div>
        <Button kind="main" type="submit" disabled={save.isPending}>
          Keep
        </Button>
      </div>
    </form>
  );
}

import {
  companyQuery,
  connectionsQuery,
  locationsQuery,
  may,
  meQuery,
  optionGroupsQuery,
  ownersQuery,
  priceListsQuery,
} from "../../api/queries";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { api, take, type Schema } from "../../api/client";
import { Button, Empty, Head, Loading, Sheet, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import { minorOf, Money, typedAmount } from "../../parts/format";
import { catalogStops, Rail } from "../../parts/rail";

type Group = Schema<"CatalogGroup">;
type Connection = Schema<"Connection">;

const words: Record<string, string> = {
  gtin: "GTIN",
  weight_g: "weight",
  length_mm: "length",
  width_mm: "width",
  height_mm: "height",
  customs_code: "customs code",
  tax_class: "tax class",
  parts: "parts of a kit",
  prices: "prices by list",
  groups: "choices",
  category: "group",
};

/** What holds for all items: whose word counts, the price lists, the choices of prepared food. */
export default function Terms() {
  const me = useQuery(meQuery);
  const connections = useQuery(connectionsQuery);
  if (me.isPending || connections.isPending) return <Loading />;
  const lead = may(me.data, "setup");
  return (
    <>
      <Head title="Terms" sub="What holds for all items" />
      <Rail label="Catalog" stops={catalogStops} />
      <Trouble error={me.error ?? connections.error} />
      <div className="grid max-w-6xl gap-x-12 gap-y-8 lg:grid-cols-2">
        <Owners lead={lead} tellers={telling(connections.data, "items in")} />
        <div className="grid content-start gap-8">
          <Keepers lead={lead} tellers={telling(connections.data, "stock in")} />
          <PriceLists lead={lead} />
          <Groups may={may(me.data, "catalog")} />
        </div>
      </div>
    </>
  );
}

const telling = (list: Connection[] | undefined, kind: string) => (list ?? []).filter((c) => c.feeds.some((f) => f.kind === kind));

/** Whose word counts: ours, nobody's in particular, or a connection that tells of it. */
function Word({
  label,
  value,
  tellers,
  besides = [["", "ours"]],
  disabled,
  onChange,
}: {
  label: string;
  value: string;
  besides?: [string, string][];
  tellers: Connection[];
  disabled: boolean;
  onChange: (code: string) => void;
}) {
  return (
    <select
      aria-label={label}
      className="field max-w-40 py-0.5!"
      value={value}
      disabled={disabled}
      onChange={(e) => onChange(e.target.value)}
    >
      {besides.map(([code, name]) => (
        <option key={code} value={code}>
          {name}
        </option>
      ))}
      {tellers.map((c) => (
        <option key={c.code} value={c.code}>
          {c.name}
        </option>
      ))}
    </select>
  );
}

function Owners({ lead, tellers }: { lead: boolean; tellers: Connection[] }) {
  const client = useQueryClient();
  const owners = useQuery(ownersQuery);
  const set = useMutation({
    mutationFn: (body: Record<string, string>) => take(api.PATCH("/api/v1/field-owners", { body })),
    onSuccess: (m) => client.setQueryData(["owners"], m),
  });
  return (
    <section>
      <h2>Whose word counts for a field</h2>
      <p className="mb-2 max-w-prose text-quiet">
        A field that another system owns is written from there, and can be changed only there. What others say of it is passed over. Of a
        field that is ours, every other word is.
      </p>
      <Trouble error={owners.error ?? set.error} />
      {tellers.length > 0 && (
        <ul className="grid gap-x-8 sm:grid-cols-2">
          {Object.entries(owners.data ?? {}).map(([field, code]) => (
            <li key={field} className="flex items-center justify-between gap-3 border-b border-rule py-1">
              <span className={code ? "font-medium" : ""}>{words[field] ?? field}</span>
              <Word
                label={`Whose word counts for ${words[field] ?? field}`}
                value={code}
                tellers={tellers}
                besides={[
                  ["", "whoever tells it"],
                  ["ours", "ours"],
                ]}
                disabled={!lead || set.isPending}
                onChange={(to) => set.mutate({ [field]: to })}
              />
            </li>
          ))}
        </ul>
      )}
      {tellers.length === 0 && <p className="mt-2 text-quiet">No connection tells items yet; all of them are written here.</p>}
    </section>
  );
}

function Keepers({ lead, tellers }: { lead: boolean; tellers: Connection[] }) {
  const client = useQueryClient();
  const places = useQuery(locationsQuery);
  const put = useMutation({
    mutationFn: (l: { code: string; name: string; keeper: string }) =>
      take(api.PUT("/api/v1/locations/{code}", { params: { path: { code: l.code } }, body: { name: l.name, keeper: l.keeper } })),
    onSuccess: () => {
      setCode("");
      setName("");
      void client.invalidateQueries({ queryKey: ["locations"] });
    },
  });
  const [code, setCode] = useState("");
  const [name, setName] = useState("");
  const add = (e: FormEvent) => {
    e.preventDefault();
    put.mutate({ code, name, keeper: "" });
  };
  return (
    <section>
      <h2>Whose word counts at a location</h2>
      <p className="mb-2 max-w-prose text-quiet">Where a partner keeps the stock, it falls and rises by their word.</p>
      <Trouble error={places.error ?? put.error} />
      <table className="ledger">
        <tbody>
          {places.data?.map((l) => (
            <tr key={l.code}>
              <td className="code">{l.code}</td>
              <td>{l.name}</td>
              <td className="r">
                <Word
                  label={`Whose word counts at ${l.name}`}
                  value={l.keeper ?? ""}
                  tellers={tellers}
                  disabled={!lead || put.isPending}
                  onChange={(keeper) => put.mutate({ code: l.code, name: l.name, keeper })}
                />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {lead && (
        <form onSubmit={add} className="mt-2 flex flex-wrap items-center gap-2">
          <input
            aria-label="Code of the new location"
            className="field code w-32"
            placeholder="code"
            required
            maxLength={31}
            value={code}
            onChange={(e) => setCode(e.target.value)}
          />
          <input
            aria-label="Name of the new location"
            className="field w-44"
            placeholder="name"
            required
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
          <Button type="submit" disabled={put.isPending}>
            Add location
          </Button>
        </form>
      )}
    </section>
  );
}

function PriceLists({ lead }: { lead: boolean }) {
  const client = useQueryClient();
  const lists = useQuery(priceListsQuery);
  const company = useQuery(companyQuery);
  const [typed, setList] = useState({ code: "", name: "", currency: "" });
  const list = { ...typed, currency: typed.currency || (company.data?.currency ?? "") };
  const put = useMutation({
    mutationFn: () => take(api.PUT("/api/v1/price-lists/{code}", { params: { path: { code: list.code } }, body: list })),
    onSuccess: () => {
      setList({ code: "", name: "", currency: "" });
      void client.invalidateQueries({ queryKey: ["price-lists"] });
    },
  });
  const add = (e: FormEvent) => {
    e.preventDefault();
    put.mutate();
  };
  const field = (key: "code" | "name" | "currency") => ({
    required: true,
    value: list[key],
    onChange: (e: { target: { value: string } }) => setList({ ...list, [key]: e.target.value }),
  });
  return (
    <section>
      <h2>Price lists</h2>
      <p className="mb-2 max-w-prose text-quiet">
        The prices themselves stand on each item, or come by the table of items. A connection says which list it shows.
      </p>
      <Trouble error={lists.error ?? put.error} />
      {lists.data?.length === 0 && <Empty>No lists yet: every channel shows the items' own prices.</Empty>}
      <table className="ledger">
        <tbody>
          {lists.data?.map((l) => (
            <tr key={l.code}>
              <td className="code">{l.code}</td>
              <td>{l.name}</td>
              <td className="r">{l.currency}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {lead && (
        <form onSubmit={add} className="mt-2 flex flex-wrap items-center gap-2">
          <input aria-label="Code of the new list" className="field code w-32" placeholder="code" maxLength={40} {...field("code")} />
          <input aria-label="Name of the new list" className="field w-44" placeholder="name" {...field("name")} />
          <input aria-label="Currency of the new list" className="field code w-20" pattern="[A-Z]{3}" {...field("currency")} />
          <Button type="submit" disabled={put.isPending}>
            Add list
          </Button>
        </form>
      )}
    </section>
  );
}

function Groups({ may }: { may: boolean }) {
  const groups = useQuery(optionGroupsQuery);
  const [open, setOpen] = useState<Group | null>(null);
  return (
    <section>
      <h2>Choices of prepared food</h2>
      <Trouble error={groups.error} />
      {groups.data?.length === 0 && <Empty>No choices yet. They come with the menu of a till, or are written here.</Empty>}
      <table className="ledger">
        <tbody>
          {groups.data?.map((g) => (
            <tr key={g.code}>
              <td>
                <button
                  type="button"
                  className="whitespace-nowrap text-left underline decoration-rule underline-offset-4"
                  disabled={!may}
                  onClick={() => setOpen(g)}
                >
                  {g.name}
                </button>
              </td>
              <td className="whitespace-nowrap text-quiet">{span(g)}</td>
              <td>
                {g.choices.map((c, i) => (
                  <span key={c.code}>
                    {i > 0 && ", "}
                    {c.name}
                    {c.price > 0 && (
                      <span className="whitespace-nowrap text-quiet">
                        {" "}
                        +<Money minor={c.price} currency="EUR" />
                      </span>
                    )}
                  </span>
                ))}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {may && (
        <Button className="mt-2" onClick={() => setOpen({ code: "", name: "", least: 0, most: 1, choices: [] })}>
          New choices
        </Button>
      )}
      {open && <GroupForm was={open} onClose={() => setOpen(null)} />}
    </section>
  );
}

const span = (g: Group) => (g.least === g.most ? `${g.least} of them` : g.least === 0 ? `up to ${g.most}` : `${g.least} to ${g.most}`);

const line = (c: Group["choices"][number]) => `${c.code} ${c.name}${c.price ? ` ${typedAmount(c.price, "EUR")}` : ""}`;

/** Takes "oat Oat drink 0.40" apart: code, name, and the price if one ends the line. */
function choice(text: string): Group["choices"][number] {
  const [code = "", ...rest] = text.trim().split(/\s+/);
  const last = rest.at(-1) ?? "";
  const priced = rest.length > 1 && /^\d+[.,]\d{1,2}$/.test(last);
  return { code, name: (priced ? rest.slice(0, -1) : rest).join(" ") || code, price: priced ? minorOf(last, "EUR") : 0 };
}

function GroupForm({ was, onClose }: { was: Group; onClose: () => void }) {
  const client = useQueryClient();
  const [g, setG] = useState(was);
  const [choices, setChoices] = useState(was.choices.map(line).join("\n"));
  const save = useMutation({
    mutationFn: () =>
      take(
        api.PUT("/api/v1/option-groups/{code}", {
          params: { path: { code: g.code } },
          body: {
            ...g,
            choices: choices
              .split("\n")
              .filter((l) => l.trim())
              .map(choice),
          },
        }),
      ),
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: ["option-groups"] });
      onClose();
    },
  });
  return (
    <Sheet open onClose={onClose} title={was.code ? was.name : "New choices"}>
      <form
        className="grid gap-3 sm:grid-cols-2"
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        <Labelled label="Code">
          <input
            className="field code w-full"
            required
            maxLength={80}
            disabled={!!was.code}
            value={g.code}
            onChange={(e) => setG({ ...g, code: e.target.value })}
          />
        </Labelled>
        <Labelled label="Name">
          <input className="field w-full" required value={g.name} onChange={(e) => setG({ ...g, name: e.target.value })} />
        </Labelled>
        <Labelled label="At least">
          <input
            className="field fig w-20"
            type="number"
            min={0}
            value={g.least}
            onChange={(e) => setG({ ...g, least: Number(e.target.value) })}
          />
        </Labelled>
        <Labelled label="At most">
          <input
            className="field fig w-20"
            type="number"
            min={1}
            value={g.most}
            onChange={(e) => setG({ ...g, most: Number(e.target.value) })}
          />
        </Labelled>
        <Labelled label="Choices" wide help="One to a line: its code, its name, and what it adds to the price, such as 0.40.">
          <textarea
            className="field w-full"
            rows={Math.max(4, choices.split("\n").length + 1)}
            required
            placeholder={"whole Whole milk\noat Oat drink 0.40"}
            value={choices}
            onChange={(e) => setChoices(e.target.value)}
          />
        </Labelled>
        <div className="sm:col-span-2">
          <Trouble error={save.error} />
          <div className="mt-2 flex gap-2">
            <Button kind="main" type="submit" disabled={save.isPending}>
              Save
            </Button>
            <Button onClick={onClose}>Leave</Button>
          </div>
        </div>
      </form>
    </Sheet>
  );
}

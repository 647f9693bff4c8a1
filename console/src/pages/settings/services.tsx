import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, take, type Schema } from "../../api/client";
import { connectionsQuery } from "../../api/queries";
import { Button, Empty, Loading, Sheet, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import { count, decimal, minorOf } from "../../parts/format";
import { Lamp } from "../../parts/lamp";
import { SettingsPage } from "../../shared/company/settingspage";

type Row = Schema<"FreightChoice">;
type Table = Schema<"ServiceTable">;

const key = ["services"];

/** By which service parcels go: what channels call a delivery, and what it stands for, with a default for all. */
export default function Services() {
  return (
    <SettingsPage
      kinds={["service table"]}
      title="Services"
      sub="By which carrier and service parcels go, and what is not decided yet"
      needs="setup"
      about="By which service parcels go"
    >
      <ServiceTable />
    </SettingsPage>
  );
}

function ServiceTable() {
  const client = useQueryClient();
  const q = useQuery({ queryKey: key, queryFn: () => take(api.GET("/api/v1/services")) });
  const [edit, setEdit] = useState<{ at: number; row: Row; fresh: boolean } | null>(null);
  const save = useMutation({
    mutationFn: (rows: Row[]) => take(api.PUT("/api/v1/services", { body: { rows } })),
    onSuccess: (t) => {
      setEdit(null);
      client.setQueryData(key, t);
      void client.invalidateQueries({ queryKey: ["setting-changes"] });
    },
  });
  if (q.isPending) return <Loading />;
  if (q.error) return <Trouble error={q.error} />;
  const t = q.data;
  const add = (word = "", connection = "") => setEdit({ at: t.rows.length, row: { word, connection, service: "" }, fresh: true });
  const put = (row: Row) =>
    edit &&
    save.mutate(
      edit.fresh ? [...t.rows.slice(0, edit.at), row, ...t.rows.slice(edit.at)] : t.rows.map((r, i) => (i === edit.at ? row : r)),
    );
  const move = (at: number, by: number) => {
    const rows = [...t.rows];
    const [row] = rows.splice(at, 1);
    if (row) rows.splice(at + by, 0, row);
    save.mutate(rows);
  };
  return (
    <section aria-label="Services" className="mb-8">
      <div className="mb-1 flex items-baseline justify-between">
        <h2>By which service parcels go</h2>
        <Button onClick={() => add()}>Add a row</Button>
      </div>
      <p className="mb-2 max-w-prose text-quiet">
        What a rule chose goes first, then a channel's own words (in its settings), then this table: rows for one channel before those for
        all, the first that holds a delivery. A promised word that is nowhere waits for a person; where nothing was promised and no row
        holds it, the cheapest is taken.
      </p>
      <Trouble error={edit ? null : save.error} />
      <OpenWords open={t.open} onDecide={(o) => add(o.word, "")} />
      {t.rows.length === 0 ? (
        <Empty action={<Button onClick={() => add()}>Add the first row</Button>}>
          No row yet. A row says by which carrier and service a delivery goes that a channel calls, say, “express”.
        </Empty>
      ) : (
        <table className="ledger">
          <thead>
            <tr>
              <th>The channel says</th>
              <th>Channel</th>
              <th>To</th>
              <th>Weight</th>
              <th>Value</th>
              <th>Goes by</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {t.rows.map((r, i) => (
              <tr key={i}>
                <td>{r.word || <span className="text-quiet">anything</span>}</td>
                <td className={r.connection ? "code" : "text-quiet"}>{r.connection || "all"}</td>
                <td className="code">{[...(r.countries ?? []), ...(r.postcodes ?? []).map((p) => `${p}…`)].join(" ")}</td>
                <td>{span(r.from_g, r.to_g, (g) => `${count(g)} g`)}</td>
                <td>{span(r.from_value, r.to_value, (v) => `${decimal(v, r.currency ?? "EUR")} ${r.currency ?? ""}`)}</td>
                <td className="font-medium">{says(r.service, t.sold)}</td>
                <td className="r whitespace-nowrap">
                  <Button kind="quiet" aria-label={`Row ${i + 1} up`} disabled={i === 0 || save.isPending} onClick={() => move(i, -1)}>
                    Up
                  </Button>{" "}
                  <Button
                    kind="quiet"
                    aria-label={`Row ${i + 1} down`}
                    disabled={i === t.rows.length - 1 || save.isPending}
                    onClick={() => move(i, 1)}
                  >
                    Down
                  </Button>{" "}
                  <Button kind="quiet" aria-label={`Change row ${i + 1}`} onClick={() => setEdit({ at: i, row: r, fresh: false })}>
                    Change
                  </Button>{" "}
                  <Button
                    kind="quiet"
                    aria-label={`Remove row ${i + 1}`}
                    disabled={save.isPending}
                    onClick={() => save.mutate(t.rows.filter((_, at) => at !== i))}
                  >
                    Remove
                  </Button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <Sheet open={!!edit} onClose={() => setEdit(null)} title={edit?.fresh ? "A row of the table" : `Row ${(edit?.at ?? 0) + 1}`}>
        {edit && <Form key={edit.at} row={edit.row} sold={t.sold} onSave={put} busy={save.isPending} error={save.error} />}
      </Sheet>
    </section>
  );
}

/** What is waited for: words that stand for nothing yet. */
function OpenWords({ open, onDecide }: { open: Table["open"]; onDecide: (o: Table["open"][number]) => void }) {
  if (open.length === 0) return null;
  return (
    <ul className="mb-3 border-l-4 border-caution bg-sheet px-3 py-2" aria-label="Not decided yet">
      {open.map((o) => (
        <li key={o.word + o.connection} className="flex flex-wrap items-baseline gap-3">
          <Lamp state="caution">
            {o.word ? `“${o.word}” of ${o.connection} stands for nothing yet` : `deliveries of ${o.connection} could not be decided`}
          </Lamp>
          <Link to="/exceptions" className="underline decoration-rule underline-offset-4">
            {o.orders === 1 ? "1 order waits" : `${count(o.orders)} orders wait`}
          </Link>
          <Button kind="quiet" onClick={() => onDecide(o)}>
            Decide it
          </Button>
        </li>
      ))}
    </ul>
  );
}

const span = (from: number | undefined, to: number | undefined, text: (n: number) => string) =>
  !from && !to ? "" : !to ? `from ${text(from ?? 0)}` : !from ? `to ${text(to)}` : `${text(from)} to ${text(to)}`;

/** A pick as people say it. */
export function says(service: string, sold: Table["sold"]): string {
  if (service === "ask") return "a person picks";
  if (/^(cheapest|fastest)/.test(service)) return `the ${service}`;
  const [carrier, code] = service.includes("/") ? service.split("/") : ["", service];
  const one = sold.find((s) => s.code === code && (carrier === "" || s.carrier === carrier));
  return one ? `${one.name} (${service})` : service;
}

function Form({
  row,
  sold,
  onSave,
  busy,
  error,
}: {
  row: Row;
  sold: Table["sold"];
  onSave: (row: Row) => void;
  busy: boolean;
  error: unknown;
}) {
  const connections = useQuery(connectionsQuery);
  const channels = connections.data?.filter((c) => c.side === "channel") ?? [];
  const [r, setR] = useState(row);
  const [value, setValue] = useState({
    from: row.from_value ? decimal(row.from_value, row.currency ?? "EUR") : "",
    to: row.to_value ? decimal(row.to_value, row.currency ?? "EUR") : "",
  });
  const set = (to: Partial<Row>) => setR((old) => ({ ...old, ...to }));
  const list = (text: string) => text.split(/[\s,]+/).filter(Boolean);
  const currency = r.currency || "EUR";
  const saved = (): Row => {
    const valued = value.from !== "" || value.to !== "";
    return {
      ...r,
      from_value: value.from ? minorOf(value.from, currency) : 0,
      to_value: value.to ? minorOf(value.to, currency) : 0,
      currency: valued ? currency : "",
    };
  };
  const several = sold.filter((s) => sold.some((o) => o !== s && o.code === s.code));
  return (
    <form
      className="grid gap-3 sm:grid-cols-2"
      onSubmit={(e) => {
        e.preventDefault();
        onSave(saved());
      }}
    >
      <Labelled label="What the channel calls the delivery" help="Empty: any, also where the buyer wished for none.">
        <input className="field w-full" value={r.word ?? ""} onChange={(e) => set({ word: e.target.value })} />
      </Labelled>
      <Labelled label="Channel">
        <select className="field w-full" value={r.connection ?? ""} onChange={(e) => set({ connection: e.target.value })}>
          <option value="">all channels</option>
          {channels.map((c) => (
            <option key={c.code} value={c.code}>
              {c.name}
            </option>
          ))}
        </select>
      </Labelled>
      <Labelled label="Countries" help="Codes such as XW, by commas; empty: any.">
        <input
          className="field w-full"
          defaultValue={r.countries?.join(", ")}
          onChange={(e) => set({ countries: list(e.target.value.toUpperCase()) })}
        />
      </Labelled>
      <Labelled label="Beginnings of postcodes" help="By commas; empty: any.">
        <input className="field w-full" defaultValue={r.postcodes?.join(", ")} onChange={(e) => set({ postcodes: list(e.target.value) })} />
      </Labelled>
      <Labelled label="Weight from, grams">
        <input
          className="field w-full"
          type="number"
          min={0}
          value={r.from_g || ""}
          onChange={(e) => set({ from_g: Number(e.target.value) })}
        />
      </Labelled>
      <Labelled label="Weight to, grams">
        <input
          className="field w-full"
          type="number"
          min={0}
          value={r.to_g || ""}
          onChange={(e) => set({ to_g: Number(e.target.value) })}
        />
      </Labelled>
      <Labelled label={`The buyer pays from, ${currency}`}>
        <input
          className="field w-full"
          inputMode="decimal"
          value={value.from}
          onChange={(e) => setValue((v) => ({ ...v, from: e.target.value }))}
        />
      </Labelled>
      <Labelled label={`The buyer pays to, ${currency}`}>
        <input
          className="field w-full"
          inputMode="decimal"
          value={value.to}
          onChange={(e) => setValue((v) => ({ ...v, to: e.target.value }))}
        />
      </Labelled>
      <Labelled label="Goes by" help="A service, or: cheapest, cheapest in 2 days, fastest, ask." wide>
        <input
          className="field w-full"
          required
          list="services-sold"
          value={r.service}
          onChange={(e) => set({ service: e.target.value })}
        />
        <datalist id="services-sold">
          {["cheapest", "cheapest in 2 days", "fastest", "ask"].map((s) => (
            <option key={s} value={s} />
          ))}
          {sold.map((s) => {
            const code = several.includes(s) ? `${s.carrier}/${s.code}` : s.code;
            return (
              <option key={s.carrier + s.code} value={code}>
                {s.name}, {s.carrier_name}
              </option>
            );
          })}
        </datalist>
      </Labelled>
      <div className="sm:col-span-2">
        <Trouble error={error} />
        <Button kind="main" type="submit" disabled={busy}>
          Save the row
        </Button>
      </div>
    </form>
  );
}

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { Button, Empty, Loading, Sheet, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";

/** What can be typed into a field of a row. */
export interface Field<T> {
  key: keyof T & string;
  label: string;
  help?: string;
  kind?: "text" | "number" | "list" | "choice" | "switch"; // list: words by commas; text where nothing is said
  options?: readonly (readonly [value: string, text: string])[]; // of a choice
  required?: boolean;
  wide?: boolean;
}

interface Texts {
  title: string;
  about: string;
  add: string; // the button
  none: string; // where there is none yet
  one: string; // above the form of a new one
}

interface Props<T> {
  name: string; // of the query
  texts: Texts;
  columns: { title: string; cell: (row: T) => ReactNode; right?: boolean }[];
  nameOf: (row: T) => string; // as its buttons are called
  blank: T;
  get: () => Promise<{ rows: T[] | null }>;
  put: (rows: T[]) => Promise<{ rows: T[] | null }>;
  fields?: Field<T>[];
  more?: (row: T, set: (to: Partial<T>) => void) => ReactNode; // what is no plain field
  ordered?: boolean; // the first that holds counts: rows are moved up and down
}

/** A setting that is a list of rows: each is changed in a sheet, and the list is saved as a whole. */
export function RowTable<T extends object>(p: Props<T>) {
  const client = useQueryClient();
  const key = ["rows", p.name];
  const q = useQuery({ queryKey: key, queryFn: p.get });
  const [edit, setEdit] = useState<{ at: number; row: T } | null>(null);
  const save = useMutation({
    mutationFn: p.put,
    onSuccess: (list) => {
      setEdit(null);
      client.setQueryData(key, list);
      void client.invalidateQueries({ queryKey: ["setting-changes"] });
    },
  });
  const rows = q.data?.rows ?? [];
  const add = () => setEdit({ at: rows.length, row: p.blank });
  const move = (at: number, by: number) => {
    const next = [...rows];
    const [row] = next.splice(at, 1);
    if (row) next.splice(at + by, 0, row);
    save.mutate(next);
  };
  return (
    <section aria-label={p.texts.title}>
      <div className="mb-1 flex items-baseline justify-between">
        <h2>{p.texts.title}</h2>
        <Button onClick={add}>{p.texts.add}</Button>
      </div>
      <p className="mb-2 max-w-prose text-quiet">{p.texts.about}</p>
      <Trouble error={q.error ?? (edit ? null : save.error)} />
      {q.isPending && <Loading />}
      {q.isSuccess && rows.length === 0 && <Empty>{p.texts.none}</Empty>}
      {rows.length > 0 && (
        <table className="ledger">
          <thead>
            <tr>
              {p.columns.map((c) => (
                <th key={c.title} className={c.right ? "r" : undefined}>
                  {c.title}
                </th>
              ))}
              <th />
            </tr>
          </thead>
          <tbody>
            {rows.map((row, i) => (
              <tr key={i}>
                {p.columns.map((c) => (
                  <td key={c.title} className={c.right ? "r fig" : undefined}>
                    {c.cell(row)}
                  </td>
                ))}
                <td className="r whitespace-nowrap">
                  <div className="-my-1 flex justify-end gap-4">
                    {p.ordered && <Movers name={p.nameOf(row)} at={i} of={rows.length} busy={save.isPending} onMove={move} />}
                    <Button kind="quiet" aria-label={`Change ${p.nameOf(row)}`} onClick={() => setEdit({ at: i, row })}>
                      Change
                    </Button>
                    <Button
                      kind="quiet"
                      aria-label={`Remove ${p.nameOf(row)}`}
                      disabled={save.isPending}
                      onClick={() => save.mutate(rows.filter((_, at) => at !== i))}
                    >
                      Remove
                    </Button>
                  </div>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <Sheet
        open={!!edit}
        onClose={() => setEdit(null)}
        title={edit && edit.at < rows.length ? p.nameOf(rows[edit.at] ?? edit.row) : p.texts.one}
      >
        {edit && (
          <RowForm
            key={edit.at}
            was={edit.row}
            fields={p.fields ?? []}
            more={p.more}
            busy={save.isPending}
            error={save.error}
            onSave={(row) => save.mutate(edit.at < rows.length ? rows.map((r, i) => (i === edit.at ? row : r)) : [...rows, row])}
          />
        )}
      </Sheet>
    </section>
  );
}

function Movers({
  name,
  at,
  of,
  busy,
  onMove,
}: {
  name: string;
  at: number;
  of: number;
  busy: boolean;
  onMove: (at: number, by: number) => void;
}) {
  return (
    <>
      <Button kind="quiet" aria-label={`${name} up`} disabled={at === 0 || busy} onClick={() => onMove(at, -1)}>
        Up
      </Button>
      <Button kind="quiet" aria-label={`${name} down`} disabled={at === of - 1 || busy} onClick={() => onMove(at, 1)}>
        Down
      </Button>
    </>
  );
}

function RowForm<T extends object>({
  was,
  fields,
  more,
  busy,
  error,
  onSave,
}: {
  was: T;
  fields: Field<T>[];
  more?: Props<T>["more"];
  busy: boolean;
  error: unknown;
  onSave: (row: T) => void;
}) {
  const [row, setRow] = useState(was);
  const set = (to: Partial<T>) => setRow((old) => ({ ...old, ...to }));
  return (
    <form
      className="grid gap-3 sm:grid-cols-2"
      onSubmit={(e) => {
        e.preventDefault();
        onSave(row);
      }}
    >
      {fields.map((f) => (
        <Labelled key={f.key} label={f.label} help={f.help} wide={f.wide}>
          <Entry field={f} value={row[f.key]} onChange={(v) => set({ [f.key]: v } as Partial<T>)} />
        </Labelled>
      ))}
      {more?.(row, set)}
      <div className="sm:col-span-2">
        <Trouble error={error} />
        <Button kind="main" type="submit" disabled={busy}>
          Save
        </Button>
      </div>
    </form>
  );
}

function Entry<T>({ field: f, value, onChange }: { field: Field<T>; value: unknown; onChange: (v: unknown) => void }) {
  switch (f.kind) {
    case "choice":
      return (
        <select className="field w-full" required={f.required} value={(value as string) ?? ""} onChange={(e) => onChange(e.target.value)}>
          {!f.options?.some(([v]) => v === ((value as string) ?? "")) && <option value={(value as string) ?? ""}>choose one</option>}
          {f.options?.map(([v, text]) => (
            <option key={v} value={v}>
              {text}
            </option>
          ))}
        </select>
      );
    case "number":
      return (
        <input
          className="field fig w-full"
          type="number"
          required={f.required}
          value={(value as number) || ""}
          onChange={(e) => onChange(Number(e.target.value))}
        />
      );
    case "switch":
      return (
        <span className="flex h-8 items-center">
          <input type="checkbox" checked={!!value} onChange={(e) => onChange(e.target.checked)} />
        </span>
      );
    case "list":
      return (
        <input
          className="field w-full"
          required={f.required}
          defaultValue={((value as string[] | null) ?? []).join(", ")}
          onChange={(e) => onChange(e.target.value.split(/[\s,]+/).filter(Boolean))}
        />
      );
    default:
      return (
        <input className="field w-full" required={f.required} value={(value as string) ?? ""} onChange={(e) => onChange(e.target.value)} />
      );
  }
}

import { useMutation, type UseQueryResult } from "@tanstack/react-query";
import { useState, type FormEvent, type ReactNode } from "react";
import { Button, Empty, Loading, Sheet, Trouble } from "../../parts/controls";
import { When } from "../../parts/format";
import { Lamp } from "../../parts/lamp";

/** What a company keeps by a code, and uses no more instead of deleting it. */
interface Kept {
  code: string;
  name: string;
  archived_at?: string | null;
  warnings?: string[];
}

interface Column<T> {
  title: string;
  cell: (x: T) => ReactNode;
  kind?: "code" | "r fig";
}

interface Texts {
  title: string; // above the list
  label?: string; // of the section where the title does not say it
  about: string;
  add: string; // the button
  addFirst?: string; // the button where there is none yet
  none: string; // where there is none yet
  one: string; // above the form of a new one
  name: string; // the column of names
}

/** A list of what is kept: each is changed in a sheet, used no more, and used again. */
export function KeptList<T extends Kept>({
  query,
  texts,
  columns,
  archive,
  onList,
  form,
}: {
  query: UseQueryResult<T[]>;
  texts: Texts;
  columns: Column<T>[];
  archive: (x: T) => Promise<T[]>;
  onList: (list: T[]) => void;
  form: (was: T | undefined, onDone: (list: T[]) => void) => ReactNode;
}) {
  const [edit, setEdit] = useState<T | "new" | null>(null);
  const archiving = useMutation({ mutationFn: archive, onSuccess: onList });
  const done = (list: T[]) => {
    onList(list);
    setEdit(null);
  };
  return (
    <section aria-label={texts.label ?? texts.title}>
      <div className="mb-1 flex items-baseline justify-between">
        <h2>{texts.title}</h2>
        <Button onClick={() => setEdit("new")}>{texts.add}</Button>
      </div>
      <p className="mb-2 max-w-prose text-quiet">{texts.about}</p>
      <Trouble error={query.error ?? archiving.error} />
      {query.isPending && <Loading />}
      {query.data?.length === 0 && (
        <Empty action={texts.addFirst && <Button onClick={() => setEdit("new")}>{texts.addFirst}</Button>}>{texts.none}</Empty>
      )}
      {query.data && query.data.length > 0 && (
        <table className="ledger">
          <thead>
            <tr>
              <th>Code</th>
              <th>{texts.name}</th>
              {columns.map((c) => (
                <th key={c.title} className={c.kind === "r fig" ? "r" : undefined}>
                  {c.title}
                </th>
              ))}
              <th />
            </tr>
          </thead>
          <tbody>
            {query.data.map((x) => (
              <Row key={x.code} x={x} columns={columns} onChange={() => setEdit(x)} onArchive={() => archiving.mutate(x)} />
            ))}
          </tbody>
        </table>
      )}
      <Sheet open={edit !== null} onClose={() => setEdit(null)} title={edit === "new" ? texts.one : (edit?.name ?? "")}>
        {edit && form(edit === "new" ? undefined : edit, done)}
      </Sheet>
    </section>
  );
}

function Row<T extends Kept>({
  x,
  columns,
  onChange,
  onArchive,
}: {
  x: T;
  columns: Column<T>[];
  onChange: () => void;
  onArchive: () => void;
}) {
  const at = x.archived_at;
  return (
    <tr className={at ? "text-quiet" : ""}>
      <td className="code">{x.code}</td>
      <td>
        {x.name}{" "}
        {at && (
          <Lamp state="idle">
            used no more since <When at={at} />
          </Lamp>
        )}
        {x.warnings?.map((w) => (
          <div key={w}>
            <Lamp state="caution">{w}</Lamp>
          </div>
        ))}
      </td>
      {columns.map((c) => (
        <td key={c.title} className={c.kind}>
          {c.cell(x)}
        </td>
      ))}
      <td>
        <div className="-my-1 flex justify-end gap-4 whitespace-nowrap">
          {!at && (
            <Button kind="quiet" aria-label={`Change ${x.name}`} onClick={onChange}>
              Change
            </Button>
          )}
          <Button kind="quiet" aria-label={at ? `Use again: ${x.name}` : `Use no more: ${x.name}`} onClick={onArchive}>
            {at ? "Use again" : "Use no more"}
          </Button>
        </div>
      </td>
    </tr>
  );
}

/** The form in which one is added or changed. */
export function KeptForm({
  error,
  busy,
  add,
  was,
  onSubmit,
  children,
}: {
  error: unknown;
  busy: boolean;
  add: string; // the button of a new one
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

import { csvText } from "./csv";
import { DropdownMenu } from "radix-ui";
import { useMemo, useRef, useState, type KeyboardEvent, type ReactNode } from "react";
import { Button } from "./controls";

export type Column<T> = {
  key: string;
  title: string;
  right?: boolean;
  /** What is drawn. */
  cell: (row: T) => ReactNode;
  /** What is sorted by and written to CSV. */
  value: (row: T) => string | number;
  hidden?: boolean;
  /** Left out on a phone. */
  wide?: boolean;
};

const side = <T,>(c: Column<T>) => `${c.right ? "r" : ""} ${c.wide ? "max-md:hidden" : ""}`;

type Props<T> = {
  name: string;
  columns: Column<T>[];
  rows: T[];
  rowKey: (row: T) => string;
  onOpen?: (row: T) => void;
  more?: { has: boolean; busy: boolean; load: () => void };
  tools?: ReactNode;
  /** Rows can be marked, to do something to many at once. */
  mark?: { chosen: ReadonlySet<string>; set: (to: Set<string>) => void };
  /** Where all rows come from as CSV, not only those that are shown. */
  csvOfAll?: string;
};

/** The main instrument: thin rules, figures at the right, arrows and Enter, CSV of what is shown. */
export function Table<T>({ name, columns, rows, rowKey, onOpen, more, tools, mark, csvOfAll }: Props<T>) {
  const storage = `columns ${name}`;
  const [shown, setShown] = useState<Record<string, boolean>>(
    () => JSON.parse(localStorage.getItem(storage) ?? "{}") as Record<string, boolean>,
  );
  const [sort, setSort] = useState<{ key: string; down: boolean } | null>(null);
  const [over, setOver] = useState(false);
  const [kept, setKept] = useState<string[] | null>(null);
  const body = useRef<HTMLTableSectionElement>(null);
  const visible = columns.filter((c) => shown[c.key] ?? !c.hidden);

  // While the pointer is over the rows, none of them moves: new ones wait until it leaves.
  const byKey = useMemo(() => new Map(rows.map((r) => [rowKey(r), r])), [rows, rowKey]);
  const calm = over && kept ? kept.flatMap((k) => byKey.get(k) ?? []) : rows;
  const waiting = over && kept ? rows.filter((r) => !kept.includes(rowKey(r))).length : 0;
  const ordered = useMemo(() => {
    const column = sort && columns.find((c) => c.key === sort.key);
    if (!sort || !column) return calm;
    return [...calm].sort((a, b) => {
      const x = column.value(a);
      const y = column.value(b);
      const d = typeof x === "number" && typeof y === "number" ? x - y : String(x).localeCompare(String(y));
      return sort.down ? -d : d;
    });
  }, [calm, sort, columns]);

  const toggle = (key: string) => {
    const column = columns.find((c) => c.key === key);
    const next = { ...shown, [key]: !(shown[key] ?? !column?.hidden) };
    setShown(next);
    localStorage.setItem(storage, JSON.stringify(next));
  };
  const keys = (e: KeyboardEvent, row: T) => {
    const tr = e.currentTarget as HTMLElement;
    if (e.key === "ArrowDown" || e.key === "j") (tr.nextElementSibling as HTMLElement | null)?.focus();
    else if (e.key === "ArrowUp" || e.key === "k") (tr.previousElementSibling as HTMLElement | null)?.focus();
    else if (e.key === "Enter" && e.target === tr) onOpen?.(row);
    else if (e.key === "x" && mark) choose(ordered.indexOf(row), !mark.chosen.has(rowKey(row)), false);
    else return;
    e.preventDefault();
  };
  const last = useRef<number | null>(null);
  const choose = (i: number, on: boolean, range: boolean) => {
    if (!mark) return;
    const to = new Set(mark.chosen);
    const from = range && last.current !== null ? Math.min(last.current, i) : i;
    const end = range && last.current !== null ? Math.max(last.current, i) : i;
    for (const row of ordered.slice(from, end + 1)) {
      if (on) to.add(rowKey(row));
      else to.delete(rowKey(row));
    }
    last.current = i;
    mark.set(to);
  };
  const csv = () => {
    if (csvOfAll) {
      location.assign(csvOfAll);
      return;
    }
    const text = csvText([visible.map((c) => c.title), ...ordered.map((r) => visible.map((c) => c.value(r)))]);
    const a = document.createElement("a");
    a.href = URL.createObjectURL(new Blob([text], { type: "text/csv" }));
    a.download = `${name}.csv`;
    a.click();
    URL.revokeObjectURL(a.href);
  };

  return (
    <div>
      <div className="mb-2 flex flex-wrap items-center gap-2">
        {tools}
        <span className="ml-auto text-[12px] text-quiet" role="status">
          {waiting > 0 ? `${waiting} more, shown when the pointer leaves` : ""}
        </span>
        <DropdownMenu.Root>
          <DropdownMenu.Trigger asChild>
            <Button kind="quiet">Columns</Button>
          </DropdownMenu.Trigger>
          <DropdownMenu.Portal>
            <DropdownMenu.Content
              align="end"
              className="z-50 rounded-[3px] border border-rule bg-sheet p-1 shadow-[0_6px_24px_rgb(0_0_0/0.2)]"
            >
              {columns.map((c) => (
                <DropdownMenu.CheckboxItem
                  key={c.key}
                  checked={shown[c.key] ?? !c.hidden}
                  onCheckedChange={() => toggle(c.key)}
                  onSelect={(e) => e.preventDefault()}
                  className="flex cursor-pointer items-center gap-2 px-3 py-1 data-highlighted:bg-wash"
                >
                  <span className="w-3">
                    <DropdownMenu.ItemIndicator>✓</DropdownMenu.ItemIndicator>
                  </span>
                  {c.title}
                </DropdownMenu.CheckboxItem>
              ))}
            </DropdownMenu.Content>
          </DropdownMenu.Portal>
        </DropdownMenu.Root>
        <Button kind="quiet" onClick={csv} disabled={rows.length === 0}>
          CSV
        </Button>
      </div>
      <div className="max-md:overflow-x-auto">
        <table className="ledger">
          <thead>
            <tr>
              {mark && (
                <th className="w-7">
                  <input
                    type="checkbox"
                    aria-label="Mark all that are shown"
                    checked={ordered.length > 0 && ordered.every((r) => mark.chosen.has(rowKey(r)))}
                    onChange={(e) => mark.set(e.target.checked ? new Set(ordered.map(rowKey)) : new Set())}
                  />
                </th>
              )}
              {visible.map((c) => (
                <th key={c.key} className={side(c)} aria-sort={sort?.key === c.key ? (sort.down ? "descending" : "ascending") : "none"}>
                  <button
                    type="button"
                    onClick={() =>
                      setSort(sort?.key !== c.key ? { key: c.key, down: false } : sort.down ? null : { key: c.key, down: true })
                    }
                  >
                    {c.title}
                    {sort?.key === c.key ? (sort.down ? " ↓" : " ↑") : ""}
                  </button>
                </th>
              ))}
            </tr>
          </thead>
          <tbody
            ref={body}
            onPointerEnter={() => {
              setKept(rows.map(rowKey));
              setOver(true);
            }}
            onPointerLeave={() => setOver(false)}
          >
            {ordered.map((row, i) => (
              <tr
                key={rowKey(row)}
                data-open={onOpen ? "" : undefined}
                tabIndex={onOpen ? (i === 0 ? 0 : -1) : undefined}
                onClick={() => onOpen?.(row)}
                onKeyDown={(e) => keys(e, row)}
              >
                {mark && (
                  <td onClick={(e) => e.stopPropagation()}>
                    <input
                      type="checkbox"
                      tabIndex={-1}
                      aria-label={`Mark ${rowKey(row)}`}
                      checked={mark.chosen.has(rowKey(row))}
                      onChange={(e) => choose(i, e.target.checked, (e.nativeEvent as MouseEvent).shiftKey)}
                    />
                  </td>
                )}
                {visible.map((c) => (
                  <td key={c.key} className={side(c)}>
                    {c.cell(row)}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {more?.has && (
        <div className="py-3">
          <Button onClick={more.load} disabled={more.busy}>
            {more.busy ? "Loading …" : "Show more"}
          </Button>
        </div>
      )}
    </div>
  );
}

import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { useState } from "react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { Table, type Column } from "./table";

type Row = { sku: string; n: number };

const columns: Column<Row>[] = [
  { key: "sku", title: "SKU", cell: (r) => r.sku, value: (r) => r.sku },
  { key: "n", title: "On hand", right: true, cell: (r) => r.n, value: (r) => r.n },
  { key: "twice", title: "Twice", cell: (r) => 2 * r.n, value: (r) => 2 * r.n, hidden: true },
];
const rows: Row[] = [
  { sku: "JAR", n: 9 },
  { sku: "LID", n: 10 },
  { sku: "CUP", n: 2 },
];
const key = (r: Row) => r.sku;

const shown = () =>
  screen
    .getAllByRole("row")
    .slice(1)
    .map((r) => r.querySelector("td:not(:has(input))")?.textContent);

beforeEach(() => localStorage.clear());
afterEach(cleanup);

describe("a table", () => {
  it("sorts numbers as numbers, then the other way, then not", async () => {
    render(<Table name="stock" columns={columns} rows={rows} rowKey={key} />);
    const head = screen.getByRole("button", { name: /On hand/ });
    expect(shown()).toEqual(["JAR", "LID", "CUP"]);
    await userEvent.click(head);
    expect(shown()).toEqual(["CUP", "JAR", "LID"]);
    expect(screen.getByRole("columnheader", { name: /On hand/ }).getAttribute("aria-sort")).toBe("ascending");
    await userEvent.click(head);
    expect(shown()).toEqual(["LID", "JAR", "CUP"]);
    await userEvent.click(head);
    expect(shown()).toEqual(["JAR", "LID", "CUP"]);
  });

  it("remembers which columns are shown", async () => {
    const { unmount } = render(<Table name="stock" columns={columns} rows={rows} rowKey={key} />);
    expect(screen.queryByRole("columnheader", { name: "Twice" })).toBeNull();
    await userEvent.click(screen.getByRole("button", { name: "Columns" }));
    await userEvent.click(screen.getByRole("menuitemcheckbox", { name: /Twice/ }));
    unmount();
    render(<Table name="stock" columns={columns} rows={rows} rowKey={key} />);
    expect(screen.getByRole("columnheader", { name: "Twice" })).toBeTruthy();
  });

  it("opens a row by Enter and walks by arrows", async () => {
    const open = vi.fn();
    render(<Table name="stock" columns={columns} rows={rows} rowKey={key} onOpen={open} />);
    screen.getAllByRole("row")[1]?.focus();
    await userEvent.keyboard("{ArrowDown}j{ArrowUp}{Enter}");
    expect(open).toHaveBeenCalledWith(rows[1]);
  });

  it("marks a range with shift, and all at once", async () => {
    const seen: string[][] = [];
    function Marked() {
      const [chosen, set] = useState<Set<string>>(new Set());
      return (
        <Table name="stock" columns={columns} rows={rows} rowKey={key} mark={{ chosen, set: (to) => (seen.push([...to]), set(to)) }} />
      );
    }
    render(<Marked />);
    const user = userEvent.setup();
    await user.click(screen.getByRole("checkbox", { name: "Mark JAR" }));
    await user.keyboard("{Shift>}");
    await user.click(screen.getByRole("checkbox", { name: "Mark CUP" }));
    await user.keyboard("{/Shift}");
    expect(seen.at(-1)).toEqual(["JAR", "LID", "CUP"]);
    await user.click(screen.getByRole("checkbox", { name: "Mark all that are shown" }));
    expect(seen.at(-1)).toEqual([]);
  });

  it("keeps rows still while the pointer is over them", () => {
    const { rerender, container } = render(<Table name="stock" columns={columns} rows={rows} rowKey={key} />);
    const body = container.querySelector("tbody");
    if (!body) throw new Error("no body");
    fireEvent.pointerEnter(body);
    rerender(<Table name="stock" columns={columns} rows={[{ sku: "NEW", n: 1 }, ...rows]} rowKey={key} />);
    expect(shown()).toEqual(["JAR", "LID", "CUP"]);
    expect(screen.getByRole("status").textContent).toBe("1 more, shown when the pointer leaves");
    fireEvent.pointerLeave(body);
    expect(shown()).toEqual(["NEW", "JAR", "LID", "CUP"]);
  });

  it("offers more where there is more", async () => {
    const load = vi.fn();
    render(<Table name="stock" columns={columns} rows={rows} rowKey={key} more={{ has: true, busy: false, load }} />);
    await userEvent.click(screen.getByRole("button", { name: "Show more" }));
    expect(load).toHaveBeenCalledOnce();
  });
});

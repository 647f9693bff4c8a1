import { cleanup, render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { MemoryRouter, useLocation } from "react-router";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { Problem } from "../api/client";
import { Boundary } from "./boundary";
import { Choice } from "./choice";
import { Head, Sheet, Tab, Trouble } from "./controls";
import { Countdown } from "./countdown";
import { Switch } from "./fields";

afterEach(cleanup);

describe("the tab's name", () => {
  it("is what the page's head says", () => {
    render(
      <Head
        title={
          <>
            Order <b>R10001</b>
          </>
        }
      />,
    );
    expect(document.title).toBe("Order R10001 · Open Relay");
  });
  it("is another where two pages have the same head", () => {
    render(<Head title="Morrow Hive Supply" tab="Board" />);
    expect(document.title).toBe("Board · Open Relay");
  });
  it("follows what is shown", () => {
    const { rerender } = render(<Tab name="Count C1" />);
    rerender(<Tab name="Count C2" />);
    expect(document.title).toBe("Count C2 · Open Relay");
  });
});

describe("trouble", () => {
  it("is nothing where there is none", () => {
    const { container } = render(<Trouble error={null} />);
    expect(container.innerHTML).toBe("");
  });
  it("says what the service says", () => {
    render(<Trouble error={new Problem(409, "order R1 is held")} />);
    expect(screen.getByRole("alert").textContent).toBe("order R1 is held");
  });
});

describe("a page that breaks", () => {
  function Page({ breaks }: { breaks: boolean }) {
    if (breaks) throw new Error("no such thing");
    return <p>as it should be</p>;
  }
  beforeEach(() => void vi.spyOn(console, "error").mockImplementation(() => undefined));
  it("says so in its place, and another address tries anew", () => {
    const { rerender } = render(
      <Boundary where="/orders">
        <Page breaks />
      </Boundary>,
    );
    expect(screen.getByRole("alert").textContent).toContain("no such thing");
    rerender(
      <Boundary where="/orders">
        <Page breaks={false} />
      </Boundary>,
    );
    expect(screen.queryByRole("alert")).not.toBeNull();
    rerender(
      <Boundary where="/stock">
        <Page breaks={false} />
      </Boundary>,
    );
    expect(screen.getByText("as it should be")).toBeTruthy();
  });
});

describe("a sheet", () => {
  it("closes by Escape", async () => {
    const close = vi.fn();
    render(
      <Sheet open onClose={close} title="Adjust stock">
        field
      </Sheet>,
    );
    expect(screen.getByRole("dialog", { name: "Adjust stock" })).toBeTruthy();
    await userEvent.keyboard("{Escape}");
    expect(close).toHaveBeenCalledOnce();
  });
});

describe("a switch", () => {
  it("is moved by keyboard and says its name", async () => {
    const change = vi.fn();
    render(<Switch label="stock out" on={false} onChange={change} />);
    screen.getByRole("switch", { name: "stock out" }).focus();
    await userEvent.keyboard(" ");
    expect(change).toHaveBeenCalledWith(true);
  });
});

describe("a choice", () => {
  function Where() {
    return <output>{useLocation().search}</output>;
  }
  it("is kept in the address, and leaves it when nothing is chosen", async () => {
    render(
      <MemoryRouter initialEntries={["/orders?tag=gift"]}>
        <Choice
          name="stage"
          label="Stage"
          options={[
            ["", "All"],
            ["held", "Held"],
          ]}
        />
        <Where />
      </MemoryRouter>,
    );
    await userEvent.selectOptions(screen.getByLabelText("Stage"), "held");
    expect(screen.getByRole("status").textContent).toBe("?tag=gift&stage=held");
    await userEvent.selectOptions(screen.getByLabelText("Stage"), "");
    expect(screen.getByRole("status").textContent).toBe("?tag=gift");
  });
});

describe("a countdown", () => {
  it.each([
    [7_300_000, "2 h 1 min"],
    [125_000, "2:05"],
    [9_000, "9 s"],
    [-1, "too late"],
  ])("with %d ms left says %s", (left, text) => {
    vi.useFakeTimers({ now: 1_000_000_000_000 });
    render(<Countdown to={new Date(1_000_000_000_000 + left).toISOString()} />);
    expect(screen.getByRole("timer").textContent).toBe(text);
    vi.useRealTimers();
  });
});

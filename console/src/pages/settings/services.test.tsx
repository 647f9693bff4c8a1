import { fireEvent, screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import { changes, onACleanPage, open, refused, said, service, type Asked } from "../../testing/service";
import Services, { says } from "./services";

const sold = [
  { carrier: "plover", carrier_name: "Plover Post", code: "PX", name: "Express" },
  { carrier: "plover", carrier_name: "Plover Post", code: "PP", name: "Parcel" },
  { carrier: "other", carrier_name: "Other", code: "PX", name: "Their express" },
];
const rows = [
  { word: "express", connection: "tansy", service: "plover/PX" },
  { countries: ["XE"], from_g: 2000, to_value: 5000, currency: "EUR", service: "ask" },
];

describe("the table of services", () => {
  onACleanPage();

  it("reads as people say it", () => {
    expect(says("plover/PX", sold)).toBe("Express (plover/PX)");
    expect(says("PP", sold)).toBe("Parcel (PP)");
    expect(says("cheapest in 2 days", sold)).toBe("the cheapest in 2 days");
    expect(says("ask", sold)).toBe("a person picks");
    expect(says("gone", sold)).toBe("gone");
  });

  it("shows its rows, and what nobody has decided with the orders that wait", async () => {
    const table = { rows, sold, open: [{ word: "overnight", connection: "skep", orders: 3 }] };
    const asked = service({ services: table, "PUT services": table });
    open(<Services />);
    await said("3 orders wait");
    const lines = screen.getAllByRole("row").map((r) => r.textContent);
    expect(lines[1]).toContain("expresstansy");
    expect(lines[2]).toContain("anythingallXEfrom 2,000 gto 50.00 EURa person picks");
    await userEvent.click(screen.getByText("Decide it"));
    const word = await screen.findByLabelText(/^What the channel calls/);
    expect((word as HTMLInputElement).value).toBe("overnight");
    fireEvent.change(screen.getByLabelText(/^Goes by/), { target: { value: "PP" } });
    fireEvent.change(screen.getByLabelText(/^Countries/), { target: { value: "xw, xe" } });
    fireEvent.change(screen.getByLabelText(/^The buyer pays from/), { target: { value: "12.50" } });
    await userEvent.click(screen.getByText("Save the row"));
    await waitFor(() => expect(changes(asked)).toHaveLength(1));
    expect((changes(asked)[0]?.body as { rows: unknown[] }).rows[2]).toEqual({
      word: "overnight",
      connection: "",
      countries: ["XW", "XE"],
      from_value: 1250,
      to_value: 0,
      currency: "EUR",
      service: "PP",
    });
  });

  it("is put in another order, and a row is changed or removed", async () => {
    let now = rows;
    const asked = service({
      services: () => ({ rows: now, sold, open: [] }),
      "PUT services": (a: Asked) => {
        now = (a.body as { rows: typeof rows }).rows;
        return { rows: now, sold, open: [] };
      },
    });
    open(<Services />);
    await userEvent.click(await screen.findByLabelText("Row 1 down"));
    await waitFor(() => expect(changes(asked)[0]?.body).toEqual({ rows: [rows[1], rows[0]] }));
    await userEvent.click(await screen.findByLabelText("Change row 2"));
    fireEvent.change(await screen.findByLabelText(/^Goes by/), { target: { value: "fastest" } });
    await userEvent.click(screen.getByText("Save the row"));
    await said("the fastest");
    await userEvent.click(screen.getByLabelText("Remove row 1"));
    await waitFor(() => expect(within(screen.getByLabelText("Services")).getAllByRole("row")).toHaveLength(2));
  });

  it("says why a row cannot be", async () => {
    service({
      services: { rows: [], sold, open: [] },
      "PUT services": refused(422, "row 1: service “teleport”: no joined carrier sells it"),
    });
    open(<Services />);
    await userEvent.click(await screen.findByText("Add the first row"));
    fireEvent.change(await screen.findByLabelText(/^Goes by/), { target: { value: "teleport" } });
    await userEvent.click(screen.getByText("Save the row"));
    await said("no joined carrier sells it");
  });
});

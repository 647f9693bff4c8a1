import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it, vi } from "vitest";
import type { Schema } from "../api/client";
import { as, answer, type Asked, changes, onACleanPage, open, refused, said, service } from "../testing/service";
import Edit from "./catalog/edit";
import Tables, { TablePage } from "./catalog/tables";
import ConnectionPage from "./connections/connection";
import Parcels from "./parcels/parcels";
import Picking from "./picking/picking";
import Rules from "./rules/rules";
import TransferPage from "./supply/transfer";
import { Receiving, parseLines } from "./supply/lists";

onACleanPage();

const button = (name: string | RegExp) => screen.findByRole("button", { name });

describe("a connection", () => {
  const page = () => open(<ConnectionPage />, "/connections/stall", "/connections/:code");

  it("says what a pause means before it pauses", async () => {
    const asked = service({ "PATCH connections/stall": answer("connections/stall") });
    page();
    await userEvent.click(await button("Pause"));
    const sheet = await screen.findByRole("dialog");
    expect(sheet.textContent).toContain("Nothing is read from The stall and nothing is sent to it");
    expect(changes(asked)).toEqual([]);
    await userEvent.click(within(sheet).getByRole("button", { name: "Pause" }));
    await waitFor(() => expect(changes(asked)[0]?.body).toEqual({ paused: true }));
    expect(changes(asked)[0]?.header.get("If-Match")).toBe(`"${answer<Schema<"Connection">>("connections/stall").revision}"`);
  });

  it("goes on without asking", async () => {
    const asked = service({ "connections/stall": { ...answer<Schema<"Connection">>("connections/stall"), paused: true } });
    page();
    await userEvent.click(await button("Resume"));
    await waitFor(() => expect(changes(asked)[0]?.body).toEqual({ paused: false }));
  });

  it("says what is not done any more when a feed is switched off", async () => {
    const asked = service();
    page();
    await userEvent.click(await screen.findByRole("switch", { name: "orders in on" }));
    const sheet = await screen.findByRole("dialog");
    expect(sheet.textContent).toContain("may be sold twice");
    await userEvent.click(within(sheet).getByRole("button", { name: "Switch off" }));
    await waitFor(() => expect(changes(asked)[0]).toMatchObject({ method: "PATCH", body: { on: false } }));
    expect(changes(asked)[0]?.path).toBe("connections/stall/feeds/orders in");
  });

  it("tells who changed it in the meantime", async () => {
    service({ "PATCH connections/stall": refused(412, "The stall was changed by someone else in the meantime") });
    page();
    await userEvent.click(await button("Pause"));
    await userEvent.click(within(await screen.findByRole("dialog")).getByRole("button", { name: "Pause" }));
    await said("was changed by someone else in the meantime");
  });

  it("shows those who may only look no switch that works", async () => {
    service({ me: as("viewer") });
    page();
    await said("The stall");
    await waitFor(() => expect(screen.queryByRole("button", { name: "Pause" })).toBeNull());
    for (const s of screen.getAllByRole("switch")) expect((s as HTMLButtonElement).disabled).toBe(true);
    expect(screen.queryByText("Decided here")).toBeNull();
  });

  it("says what leaving removes and what stays, then leaves", async () => {
    const asked = service({
      "connections/stall/leave": { removed: ["The access"], stays: ["3 orders"] },
      "POST connections/stall/leave": {},
    });
    page();
    await userEvent.click(await button("Leave"));
    const sheet = await screen.findByRole("dialog");
    await said("3 orders");
    expect(sheet.textContent).toContain("The access");
    await userEvent.click(within(sheet).getByRole("button", { name: "Leave The stall" }));
    await said("another page");
    expect(changes(asked).map((a) => a.path)).toEqual(["connections/stall/leave"]);
  });

  it("keeps overrides that are refused, with the reason", async () => {
    service({ "PUT connections/stall/overrides": refused(422, "line 2: there is no feed named order in") });
    page();
    await userEvent.click(await button(/^Overrides/));
    const text = await screen.findByLabelText<HTMLTextAreaElement>("Overrides");
    await userEvent.type(text, "feeds:");
    await userEvent.click(screen.getByRole("button", { name: "Keep" }));
    await said("there is no feed named order in");
    expect(text.value).toContain("feeds:");
  });
});

describe("an item's record", () => {
  it("is sent as it was typed, prices in minor units", async () => {
    const asked = service({ "POST items": { ...answer<Record<string, unknown>>("items/JAR/record"), sku: "APRON" } });
    open(<Edit />, "/items/new", "/items/new");
    await userEvent.type(await screen.findByLabelText("SKU"), "APRON");
    await userEvent.type(screen.getByLabelText(/^Name/), "Apron with bees");
    await userEvent.type(screen.getByLabelText(/^Price/), "19,50");
    await userEvent.click(screen.getByRole("button", { name: "Add item" }));
    await said("another page");
    expect(changes(asked)[0]?.body).toMatchObject({ sku: "APRON", name: "Apron with bees", price: 1950, kind: "stocked" });
  });

  it("reads the parts of a kit line by line", async () => {
    const asked = service({ "POST items": { ...answer<Record<string, unknown>>("items/JAR/record"), sku: "SET" } });
    open(<Edit />, "/items/new", "/items/new");
    await userEvent.type(await screen.findByLabelText("SKU"), "SET");
    await userEvent.type(screen.getByLabelText(/^Name/), "A set");
    await userEvent.selectOptions(screen.getByLabelText("What it is"), "kit");
    await userEvent.type(screen.getByLabelText(/^Made of/), "2 JAR\n1 × LID");
    await userEvent.click(screen.getByRole("button", { name: "Add item" }));
    await waitFor(() => expect(changes(asked)).toHaveLength(1));
    expect((changes(asked)[0]?.body as Schema<"CatalogItem">).parts).toEqual([
      { quantity: 2, sku: "JAR" },
      { quantity: 1, sku: "LID" },
    ]);
  });

  it("stays when it is refused", async () => {
    service({ "POST items": refused(422, "gtin: 123 is not a GTIN with a right check digit") });
    open(<Edit />, "/items/new", "/items/new");
    await userEvent.type(await screen.findByLabelText("SKU"), "APRON");
    await userEvent.type(screen.getByLabelText(/^Name/), "Apron");
    await userEvent.type(screen.getByLabelText(/^GTIN/), "123");
    await userEvent.click(screen.getByRole("button", { name: "Add item" }));
    await said("not a GTIN with a right check digit");
    expect(screen.getByLabelText<HTMLInputElement>(/^GTIN/).value).toBe("123");
  });

  it("leaves to another system what is that system's word", async () => {
    service({ "field-owners": { name: "the back office" } });
    open(<Edit />, "/items/JAR/edit", "/items/:sku/edit");
    const name = await screen.findByLabelText<HTMLInputElement>(/^Name/);
    await waitFor(() => expect(name.disabled).toBe(true));
    expect(document.body.textContent).toContain("The word of the back office counts; change it there.");
    expect(screen.getByLabelText<HTMLInputElement>(/^Weight/).disabled).toBe(false);
  });
});

describe("rules", () => {
  it("are moved by buttons, and end at the ends", async () => {
    const two = answer<Schema<"Rule">[]>("rules");
    two.push({ ...two[0]!, id: 2, name: "The other", revision: 4 });
    const asked = service({ rules: two, "POST rules": two });
    open(<Rules />);
    expect(((await button("Move The other down")) as HTMLButtonElement).disabled).toBe(true);
    await userEvent.click(await button("Move The other up"));
    await waitFor(() => expect(changes(asked)[0]?.body).toMatchObject({ id: 2, revision: 4, position: 1 }));
  });

  it("are switched off at once, but on only after a look at what they would change", async () => {
    const list = answer<Schema<"Rule">[]>("rules");
    const asked = service({ rules: [list[0]!, { ...list[0]!, id: 2, name: "Asleep", on: false }], "POST rules": list });
    open(<Rules />);
    await userEvent.click(await screen.findByRole("switch", { name: /Switch By itself/ }));
    await waitFor(() => expect(changes(asked)[0]?.body).toMatchObject({ id: 1, on: false }));
    cleanup();
    const again = service({ rules: [{ ...list[0]!, id: 2, name: "Asleep", on: false }] });
    open(<Rules />, "/rules", "/rules");
    await userEvent.click(await screen.findByRole("switch", { name: "Switch Asleep on" }));
    await said("another page");
    expect(changes(again)).toEqual([]);
  });

  it("say that one cannot be worked with", async () => {
    service({ rules: [{ ...answer<Schema<"Rule">[]>("rules")[0]!, broken: "there is no field colour" }] });
    open(<Rules />);
    await said("there is no field colour");
  });
});

describe("what is to be picked", () => {
  it("is asked for from the oldest, and goes on where the page ends", async () => {
    const page = (a: Asked) =>
      answer<Schema<"OrderRow">[]>("orders").map((o) => ({ ...o, number: o.number + (a.query.get("after") ?? "") }));
    const asked = service({ orders: page });
    const known = globalThis.fetch;
    vi.stubGlobal("fetch", async (input: Request) => {
      const url = new URL(input.url);
      const reply = await known(input);
      if (!url.pathname.endsWith("/orders") || url.searchParams.get("after")) return reply;
      return new Response(await reply.text(), {
        headers: { "Content-Type": "application/json", Link: '</api/v1/orders?after=7>; rel="next"' },
      });
    });
    open(<Picking />);
    await said("oldest of the orders to pick");
    expect(asked.find((a) => a.path === "orders")?.query.get("oldest")).toBe("true");
    await userEvent.click(await button("Show more"));
    await waitFor(() =>
      expect(
        asked
          .filter((a) => a.path === "orders")
          .at(-1)
          ?.query.get("after"),
      ).toBe("7"),
    );
    await said("orders to pick, the oldest first");
  });

  it("opens what is scanned, and says what is not to be picked", async () => {
    service({ "POST orders/O10002/pick": { shipment: "S10002" }, "POST orders/GHOST/pick": refused(404, "There is no order GHOST") });
    open(<Picking />, "/picking", "/picking");
    await userEvent.type(await screen.findByLabelText("Order number"), "GHOST{Enter}");
    await said("There is no order GHOST");
    await userEvent.clear(screen.getByLabelText("Order number"));
    await userEvent.type(screen.getByLabelText("Order number"), "O10002{Enter}");
    await said("another page");
  });
});

describe("parcels", () => {
  const day = { id: 3, carrier: "anna", carrier_name: "Anna", day: "2026-11-23", state: "open", parcels: 12, receipt: "" };

  it("close a carrier's day after saying what that is", async () => {
    const asked = service({ manifests: [day], "POST manifests/3/close": { ...day, state: "closed", receipt: "R-1" } });
    open(<Parcels />);
    await userEvent.click(await button("Close the day"));
    const sheet = await screen.findByRole("dialog");
    expect(sheet.textContent).toContain("Anna gets the list of 12 parcels");
    await userEvent.click(within(sheet).getByRole("button", { name: "Close the day" }));
    await waitFor(() => expect(changes(asked).map((a) => a.path)).toEqual(["manifests/3/close"]));
    await waitFor(() => expect(screen.queryByRole("dialog")).toBeNull());
  });

  it("say why a day does not close", async () => {
    service({ manifests: [day], "POST manifests/3/close": refused(502, "Anna does not answer; it is tried again") });
    open(<Parcels />);
    await userEvent.click(await button("Close the day"));
    await userEvent.click(within(await screen.findByRole("dialog")).getByRole("button", { name: "Close the day" }));
    await said("Anna does not answer");
  });

  it("show older lists when they are asked for", async () => {
    const asked = service({ manifests: Array.from({ length: 6 }, (_, i) => ({ ...day, id: i, state: "closed", receipt: `R-${i}` })) });
    open(<Parcels />);
    await userEvent.click(await button("Show older ones"));
    await waitFor(() =>
      expect(
        asked
          .filter((a) => a.path === "manifests")
          .at(-1)
          ?.query.get("limit"),
      ).toBe("200"),
    );
  });
});

describe("a transfer", () => {
  const number = "transfers/T10001";
  const at = (state: string) => ({ ...answer<Schema<"Transfer">>(number), state });
  const page = () => open(<TransferPage />, "/transfers/T10001", "/transfers/:number");

  it("leaves, once", async () => {
    const asked = service({ [number]: at("draft"), [`POST ${number}/send`]: at("under way") });
    page();
    await userEvent.click(await button(/^It leaves/));
    await button(/arrived$/);
    expect(changes(asked).map((a) => a.path)).toEqual([`${number}/send`]);
    expect(changes(asked)[0]?.header.get("Idempotency-Key")).toBeTruthy();
  });

  it("arrives scan by scan, and says what does not belong to it", async () => {
    const asked = service({
      [number]: at("under way"),
      [`POST ${number}/arrive`]: (a: Asked) =>
        JSON.stringify(a.body).includes("GHOST") ? refused(422, "GHOST is not on T10001") : at("under way"),
    });
    page();
    await userEvent.type(await screen.findByPlaceholderText("Scan what arrives"), "JAR{Enter}");
    await said("JAR has arrived");
    await userEvent.type(screen.getByPlaceholderText("Scan what arrives"), "GHOST{Enter}");
    await said("GHOST is not on T10001");
    expect(changes(asked)[0]?.body).toEqual({ items: [{ code: "JAR", quantity: 1 }] });
  });

  it("is given up only with a reason", async () => {
    const asked = service({ [number]: at("under way"), [`POST ${number}/lose`]: at("closed") });
    page();
    await userEvent.click(await button("The rest is lost"));
    const sheet = await screen.findByRole("dialog");
    await userEvent.click(within(sheet).getByRole("button", { name: "Give up" }));
    expect(changes(asked)).toEqual([]);
    await userEvent.type(within(sheet).getByLabelText("What became of them"), "fell off the van");
    await userEvent.click(within(sheet).getByRole("button", { name: "Give up" }));
    await waitFor(() => expect(changes(asked)[0]?.body).toEqual({ reason: "fell off the van" }));
  });
});

describe("lists of goods", () => {
  it("are read as people write them", () => {
    expect(parseLines("30 LID-63-100\n\n2 × SMOKER L\n1*JAR\nmany JAR")).toEqual([
      { quantity: 30, sku: "LID-63-100" },
      { quantity: 2, sku: "SMOKER L" },
      { quantity: 1, sku: "JAR" },
      { quantity: 0, sku: "JAR" },
    ]);
  });

  it("go on where the page ends", async () => {
    const one = answer<Schema<"Purchase">[]>("purchases")[0]!;
    service({ purchases: (a: Asked) => [{ ...one, number: a.query.get("before") === "7" ? "P-OLD" : "P-NEW" }] });
    const known = globalThis.fetch;
    vi.stubGlobal("fetch", async (input: Request) => {
      const url = new URL(input.url);
      const reply = await known(input);
      if (!url.pathname.endsWith("/purchases") || url.searchParams.get("before")) return reply;
      return new Response(await reply.text(), {
        headers: { "Content-Type": "application/json", Link: '</api/v1/purchases?before=7>; rel="next"' },
      });
    });
    open(<Receiving />);
    await said("P-NEW");
    await userEvent.click(await button("Show more"));
    await said("P-OLD");
    expect(screen.queryByRole("button", { name: "Show more" })).toBeNull();
  });
});

describe("tables", () => {
  const sheet: Schema<"Sheet"> = {
    id: 4,
    kind: "items",
    name: "spring.csv",
    who: "Edda",
    at: "2026-11-23T08:00:00Z",
    state: "checked",
    total: 3,
    done: 0,
    error: "",
    form: { encoding: "UTF-8", separator: ";" } as Schema<"Sheet">["form"],
    counts: [
      { verdict: "add", count: 2 },
      { verdict: "refused", count: 1 },
    ],
  };
  const rows = [
    { row: 2, verdict: "add", key: "APRON", changes: "name Apron" },
    { row: 3, verdict: "refused", key: "VEIL", reason: "gtin: 123 is not a GTIN with a right check digit" },
  ];

  it("show each row's outcome and carry out what is good", async () => {
    const asked = service({ "sheets/4": sheet, "sheets/4/rows": rows, "POST sheets/4/apply": { ...sheet, state: "applying" } });
    open(<TablePage />, "/tables/4", "/tables/:id");
    await said("not a GTIN with a right check digit");
    await userEvent.click(await button("Carry out 2 rows"));
    await waitFor(() => expect(changes(asked).map((a) => a.path)).toEqual(["sheets/4/apply"]));
  });

  it("are narrowed to what was refused", async () => {
    const asked = service({ "sheets/4": sheet, "sheets/4/rows": rows });
    open(<TablePage />, "/tables/4", "/tables/:id");
    await userEvent.click(await button(/^refused/));
    await waitFor(() =>
      expect(
        asked
          .filter((a) => a.path === "sheets/4/rows")
          .at(-1)
          ?.query.get("verdict"),
      ).toBe("refused"),
    );
  });

  it("have nothing to carry out where every row was refused", async () => {
    service({ "sheets/4": { ...sheet, counts: [{ verdict: "refused", count: 3 }] }, "sheets/4/rows": rows });
    open(<TablePage />, "/tables/4", "/tables/:id");
    expect(((await button("Carry out 0 rows")) as HTMLButtonElement).disabled).toBe(true);
  });

  it("are handed in with their name, and a refusal is told", async () => {
    const asked = service({ "POST sheets/items": refused(422, "The first row names no column sku") });
    open(<Tables />);
    await said("needed");
    await userEvent.upload(screen.getByLabelText("File"), new File(["a;b\n"], "spring.csv", { type: "text/csv" }));
    fireEvent.submit((await button("Look at it")).closest("form")!); // the page under test does not see that a file was chosen
    await said("names no column sku");
    expect(changes(asked)[0]?.query.get("name")).toBe("spring.csv");
  });
});

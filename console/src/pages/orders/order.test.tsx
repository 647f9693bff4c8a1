import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it, vi } from "vitest";
import type { Schema } from "../../api/client";
import { answer, changes, onACleanPage, open, refused, said, service } from "../../testing/service";
import { CancelUnits } from "./cancel";
import OrderPage from "./order";
import TypeOrder from "./type";

onACleanPage();

type Order = Schema<"Order">;

/** Shows an order that is like one of a small company, but for what a test says. */
const show = (change: (o: Order) => void, say: Record<string, unknown> = {}, from: "orders/S-1" | "orders/S-3" = "orders/S-1") => {
  const o = answer<Order>(from);
  o.actions = [];
  change(o);
  const asked = service({ "orders/O1": o, ...say });
  open(<OrderPage />, "/orders/O1", "/orders/:number");
  return asked;
};

/** One outcome of an action on one order. */
const outcome = (state: "done" | "refused" | "waiting", text = "") => ({
  id: 3,
  action: "hold",
  state: state === "waiting" ? "waiting" : "done",
  total: 1,
  settled: 1,
  done: state === "done" ? 1 : 0,
  undo: false,
  results: [{ number: "O1", state, ok: state === "done", text }],
});

const menu = async (name: string) => {
  await userEvent.click(await screen.findByRole("button", { name: "More" }));
  await userEvent.click(await screen.findByRole("menuitem", { name }));
  return screen.findByRole("dialog");
};

describe("an order", () => {
  it("marks where ours and the channel's differ, and nothing else", async () => {
    show((o) => {
      o.record.shipping = 490;
      o.record.total = 2490;
    });
    const table = await screen.findByTestId("side-by-side");
    const marked = within(table)
      .getAllByRole("row")
      .filter((r) => r.textContent?.includes("differs"))
      .map((r) => r.querySelector("td")?.textContent);
    expect(marked).toEqual(["Shipping", "Total EUR"]);
  });

  it("says what was booked instead of a difference", async () => {
    show((o) => {
      o.record.total = 2001;
      o.ours.booked = 1;
      o.ours.account = "rounding";
    });
    const table = await screen.findByTestId("side-by-side");
    expect(within(table).queryByText("differs")).toBeNull();
    expect(table.textContent).toContain("0.01 booked to rounding");
    await said("are booked to rounding, within the tolerance");
  });

  it("says which line the channel does not have", async () => {
    show((o) => (o.record.lines = []));
    await said("no such line");
  });

  it("keeps units back, lets them go, and is sent from another place", async () => {
    const asked = show(
      (o) => {
        o.actions = ["plan"];
        o.lines = o.lines.slice(0, 1).map((l) => ({ ...l, id: 5, sku: "JAR", waiting: 1, allocated: 2, kept_back: 1 }));
      },
      {
        locations: [
          { code: "alder", name: "Alder Yard" },
          { code: "barn", name: "The Barn" },
        ],
        "POST orders/O10001/plan": answer("orders/S-1"),
      },
    );
    await said("1 kept back");
    await userEvent.click(screen.getByRole("button", { name: "Send otherwise" }));
    await userEvent.click(await screen.findByRole("button", { name: "One more of JAR" }));
    await userEvent.type(screen.getByLabelText(/Why/), "by truck");
    await userEvent.click(screen.getByRole("button", { name: "Keep these back" }));
    await waitFor(() => expect(changes(asked)[0]?.body).toEqual({ kind: "keep back", lines: { 5: 2 }, reason: "by truck" }));
  });

  it("is split, and moved to a place that is chosen", async () => {
    const asked = show(
      (o) => {
        o.actions = ["plan"];
        o.lines = o.lines.slice(0, 1).map((l) => ({ ...l, id: 5, sku: "JAR", waiting: 1, allocated: 2 }));
      },
      {
        locations: [
          { code: "alder", name: "Alder Yard" },
          { code: "barn", name: "The Barn" },
        ],
        "POST orders/O10001/plan": refused(409, "0 × JAR are free at The Barn, not 1"),
      },
    );
    await userEvent.click(await screen.findByRole("button", { name: "Send otherwise" }));
    await userEvent.click(await screen.findByRole("button", { name: "Send from another place" }));
    await userEvent.selectOptions(screen.getByLabelText("From"), "barn");
    await userEvent.click(screen.getByRole("button", { name: "One more of JAR" }));
    await userEvent.click(screen.getByRole("button", { name: "Send them from there" }));
    await said("0 × JAR are free at The Barn");
    await userEvent.click(screen.getByRole("button", { name: "Send apart" }));
    await userEvent.click(screen.getByRole("button", { name: "One more of JAR" }));
    await userEvent.click(screen.getByRole("button", { name: "Send these apart" }));
    await waitFor(() => expect(changes(asked)).toHaveLength(2));
    expect(changes(asked)[0]?.body).toEqual({ kind: "move", lines: { 5: 1 }, to: "barn" });
    expect(changes(asked)[1]?.body).toEqual({ kind: "split", lines: { 5: 1 } });
  });

  it("begins to be picked, and leads there", async () => {
    const asked = show(
      (o) => {
        o.stage = "ready";
        o.actions = ["pick"];
      },
      { "POST orders/O1/pick": { shipment: "S77" } },
    );
    await userEvent.click(await screen.findByRole("button", { name: "Pick" }));
    await said("another page");
    expect(changes(asked)[0]?.path).toBe("orders/O1/pick");
  });

  it("goes on although it is held, once a person says so, against the revision that was seen", async () => {
    const asked = show((o) => {
      o.revision = 12;
      o.holds = [{ cause: "wants a look", text: "A rule wants a look.", expected: "A person's word.", about: [] }];
    });
    await userEvent.click(await screen.findByRole("button", { name: "Let it go on" }));
    await waitFor(() => expect(changes(asked)).toHaveLength(1));
    expect(changes(asked)[0]?.body).toEqual({ cause: "wants a look" });
    expect(changes(asked)[0]?.header.get("If-Match")).toBe('"12"');
  });

  it("leads to what is unknown in it", async () => {
    show(() => undefined, {}, "orders/S-3");
    expect((await screen.findByRole("link", { name: "Say what it is" })).getAttribute("href")).toBe("/exceptions?cause=unknown%20item");
    expect(screen.queryByRole("button", { name: "Let it go on" })).toBeNull();
  });

  it("says that what it holds is hidden, and what was removed", async () => {
    show((o) => {
      o.hidden = true;
      o.forgotten = "2026-11-20T08:00:00Z";
    });
    await said("Names, addresses and notes are hidden from your role.");
    await said("Personal data was removed");
  });

  it("tells that there is none under a number", async () => {
    service({ "orders/O9": refused(404, "There is no order O9.") });
    open(<OrderPage />, "/orders/O9", "/orders/:number");
    await said("There is no order O9.");
  });

  it("shows its versions, and what each changed", async () => {
    show((o) => {
      o.versions = [...o.versions, { ...o.versions[0]!, version: 2 }];
      o.compared = [{ version: 2, changes: [{ field: "ship_to.street", was: "", is: "Heron Lane 2" }] }];
    });
    await userEvent.click(await screen.findByRole("button", { name: "As received (2 versions)" }));
    const sheet = await screen.findByRole("dialog");
    expect(sheet.textContent).toContain("ship_to.street");
    await userEvent.click(within(sheet).getByRole("button", { name: /^1 / }));
    await said("The first version.");
  });
});

describe("an order's address", () => {
  const movable = (o: Order) => {
    o.actions = ["address"];
    o.revision = 4;
  };

  it("is changed against the revision that was seen", async () => {
    const asked = show(movable);
    await userEvent.click(await screen.findByRole("button", { name: "Change the address" }));
    const form = await screen.findByRole("dialog");
    const street = within(form).getByLabelText("Street and number");
    await userEvent.clear(street);
    await userEvent.type(street, "Heron Lane 2{Enter}");
    await waitFor(() => expect(changes(asked)).toHaveLength(1));
    expect(changes(asked)[0]?.body).toMatchObject({ street: "Heron Lane 2", town: "Harrowmere" });
    expect(changes(asked)[0]?.header.get("If-Match")).toBe('"4"');
    await waitFor(() => expect(screen.queryByRole("dialog")).toBeNull());
  });

  it("keeps what was typed when somebody else was quicker", async () => {
    show(movable, { "PUT orders/O10001/address": refused(412, "Ilka Fenn changed it in the meantime.") });
    await userEvent.click(await screen.findByRole("button", { name: "Change the address" }));
    const form = await screen.findByRole("dialog");
    await userEvent.type(within(form).getByLabelText("Second line"), "back yard{Enter}");
    await said("Ilka Fenn changed it in the meantime.");
    expect(within(form).getByLabelText<HTMLInputElement>("Second line").value).toBe("back yard");
  });
});

describe("what else can be done with an order", () => {
  it("is held with a reason", async () => {
    const asked = show((o) => (o.actions = ["hold"]), { "POST orders/actions": outcome("done") });
    const form = await menu("Hold it");
    await userEvent.type(within(form).getByLabelText("Why"), "she called{Enter}");
    await waitFor(() => expect(screen.queryByRole("dialog")).toBeNull());
    expect(changes(asked)[0]?.body).toEqual({ action: "hold", value: "she called", orders: ["O10001"] });
  });

  it("stays open with the reason when it is refused", async () => {
    show((o) => (o.actions = ["cancel"]), {
      "POST orders/actions": outcome("refused", "O10001 is shipped; nothing of it can be cancelled"),
    });
    const form = await menu("Cancel it here");
    expect(form.textContent).toContain("The channel is not told.");
    await userEvent.type(within(form).getByLabelText("Why"), "by mistake{Enter}");
    await said("nothing of it can be cancelled");
  });

  it("closes while it is under way, which is no refusal", async () => {
    show((o) => (o.actions = ["hold"]), { "POST orders/actions": outcome("waiting") });
    const form = await menu("Hold it");
    await userEvent.type(within(form).getByLabelText("Why"), "x{Enter}");
    await waitFor(() => expect(screen.queryByRole("dialog")).toBeNull());
  });

  it("is voided, and its number freed where that is wanted", async () => {
    const asked = show((o) => (o.actions = ["void"]), { "POST orders/O10001/void": { number: "O10001-V" } });
    const form = await menu("Void it");
    await userEvent.type(within(form).getByLabelText("Why"), "twice");
    await userEvent.click(within(form).getByRole("checkbox"));
    await userEvent.click(within(form).getByRole("button", { name: "Void the order" }));
    await waitFor(() => expect(changes(asked)[0]?.body).toEqual({ reason: "twice", release_number: true }));
  });

  it("offers only what can be done", async () => {
    show((o) => (o.actions = ["posted"]));
    await userEvent.click(await screen.findByRole("button", { name: "More" }));
    const names = (await screen.findAllByRole("menuitem")).map((i) => i.textContent);
    expect(names).toEqual(["Assign it", "It was posted to the books", "What happened to orders"]);
  });

  it("has tags put on and taken off, and a refusal is told", async () => {
    const asked = show((o) => (o.ours.tags = ["gift"]), { "POST orders/actions": outcome("refused", "has the tag already") });
    await userEvent.click(await screen.findByRole("button", { name: "Take the tag gift off" }));
    await said("has the tag already");
    await userEvent.type(screen.getByLabelText("Add a tag"), "  fragile {Enter}");
    await waitFor(() => expect(changes(asked)).toHaveLength(2));
    expect(changes(asked).map((a) => a.body)).toMatchObject([
      { action: "untag", value: "gift" },
      { action: "tag", value: "fragile" },
    ]);
  });
});

describe("a channel that waits for an answer", () => {
  const waits = (o: Order) => {
    o.actions = ["answer"];
    o.ours.answer = { state: "wanted", by: new Date(Date.now() + 240_000).toISOString() } as Order["ours"]["answer"];
  };

  it("is told yes, with a time", async () => {
    const asked = show(waits);
    const minutes = await screen.findByLabelText("Ready in minutes");
    await userEvent.clear(minutes);
    await userEvent.type(minutes, "35");
    await userEvent.click(screen.getByRole("button", { name: "Accept" }));
    await waitFor(() => expect(changes(asked)[0]?.body).toEqual({ accept: true, minutes: 35, reason: "" }));
  });

  it("is told no only with a reason", async () => {
    const asked = show(waits, { "POST orders/O10001/answer": refused(409, "The time to answer is over.") });
    const no = await screen.findByRole<HTMLButtonElement>("button", { name: "Decline" });
    expect(no.disabled).toBe(true);
    await userEvent.type(screen.getByLabelText("Or why not"), "no lime left");
    await userEvent.click(no);
    await said("The time to answer is over.");
    expect(changes(asked)[0]?.body).toMatchObject({ accept: false, reason: "no lime left" });
  });
});

describe("an order typed by hand", () => {
  const fill = async () => {
    await userEvent.type(await screen.findByLabelText("SKU of line 1"), "JAR");
    await userEvent.type(screen.getByLabelText("Price of line 1"), "12.90");
  };

  it("is sent in minor units, and opens", async () => {
    const asked = service({ "POST orders": { number: "O10009" } });
    open(<TypeOrder />, "/type", "/type");
    await fill();
    await userEvent.type(screen.getByLabelText("Name"), "Ilka Fenn");
    await userEvent.click(screen.getByRole("button", { name: "Take it in" }));
    await said("another page");
    expect(changes(asked)[0]?.body).toMatchObject({
      connection: "stall",
      order: { buyer_name: "Ilka Fenn", lines: [{ id: "1", sku: "JAR", title: "JAR", quantity: 1, unit_price: 1290 }] },
    });
  });

  it("says which amount is none, and asks nothing", async () => {
    const asked = service();
    open(<TypeOrder />, "/type", "/type");
    await userEvent.type(await screen.findByLabelText("SKU of line 1"), "JAR");
    await userEvent.type(screen.getByLabelText("Price of line 1"), "dear");
    await userEvent.click(screen.getByRole("button", { name: "Take it in" }));
    await said("Price of line 1: “dear” is no amount such as 12.90.");
    expect(changes(asked)).toEqual([]);
  });

  it("gets lines and loses them, but keeps one", async () => {
    service();
    open(<TypeOrder />, "/type", "/type");
    await fill();
    await userEvent.click(screen.getByRole("button", { name: "Add a line" }));
    await userEvent.type(screen.getByLabelText("SKU of line 2"), "LID");
    await userEvent.click(screen.getByRole("button", { name: "Take line 1 away" }));
    expect(screen.getByLabelText<HTMLInputElement>("SKU of line 1").value).toBe("LID");
    expect(screen.getByRole<HTMLButtonElement>("button", { name: "Take line 1 away" }).disabled).toBe(true);
  });

  it("stands beside the message that could not be taken in", async () => {
    const asked = service({
      "inbox/8": { id: 8, raw: '{"id":"S-9"}', reason: "currency: “euros” is none", order: { ...answer<Order>("orders/S-1").record } },
      "POST orders": refused(422, "number: there is an order S-1 of The stall already"),
    });
    open(<TypeOrder />, "/type?inbox=8&connection=stall");
    await said("currency: “euros” is none");
    expect(screen.getByLabelText<HTMLInputElement>("Price of line 1").value).toBe("10.00");
    await userEvent.click(screen.getByRole("button", { name: "Take it in" }));
    await said("there is an order S-1 of The stall already");
    expect(changes(asked)[0]?.body).toMatchObject({ inbox: 8, order: { number: "S-1" } });
  });
});

describe("units of an order", () => {
  const path = "orders/S-2";

  it("are cancelled with a reason, which the channel is told", async () => {
    const o = answer<Schema<"Order">>(path);
    const asked = service({ [`POST ${path}/cancel`]: o });
    const done = vi.fn();
    open(<CancelUnits order={{ ...o, number: "S-2" }} onDone={done} />);
    expect(screen.getByRole<HTMLButtonElement>("button", { name: "Cancel these units" }).disabled).toBe(true);
    await userEvent.click(screen.getByRole("button", { name: "One more of JAR" }));
    await userEvent.type(screen.getByLabelText(/^Why/), "broken");
    await userEvent.click(screen.getByRole("button", { name: "Cancel these units" }));
    await waitFor(() => expect(done).toHaveBeenCalled());
    expect(changes(asked)[0]?.body).toEqual({ reason: "broken", lines: { [String(o.lines[0]?.id)]: 1 } });
  });

  it("are cancelled all at once, and a refusal says why", async () => {
    const o = answer<Schema<"Order">>(path);
    const asked = service({ [`POST ${path}/cancel`]: refused(409, "1 × JAR of order O10002 can be cancelled, not 2") });
    open(<CancelUnits order={{ ...o, number: "S-2" }} onDone={() => undefined} />);
    await userEvent.click(screen.getByRole("button", { name: "All that has not left" }));
    await userEvent.type(screen.getByLabelText(/^Why/), "the buyer rang{Enter}");
    await said("can be cancelled, not 2");
    expect(changes(asked)[0]?.body).toEqual({ reason: "the buyer rang" });
  });
});

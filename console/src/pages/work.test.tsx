import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import type { Schema } from "../api/client";
import { as, answer, type Asked, changes, onACleanPage, open, refused, said, service } from "../testing/service";
import Exceptions from "./exceptions/exceptions";
import Orders from "./orders/orders";
import Pick from "./picking/pick";
import Settings from "./settings/settings";
import { SignIn } from "./signin/signin";
import Item from "./stock/item";
import Stock from "./stock/stock";
import Count from "./supply/count";
import Receive from "./supply/receive";

onACleanPage();

describe("signing in", () => {
  it("says what is wrong and keeps what was typed", async () => {
    const asked = service({ "POST session": refused(401, "E-mail or password is wrong.") });
    open(<SignIn />);
    await userEvent.type(screen.getByLabelText("E-mail"), "edda@morrow.example");
    await userEvent.type(screen.getByLabelText("Password"), "honeycomb{Enter}");
    await said("E-mail or password is wrong.");
    expect(screen.getByLabelText<HTMLInputElement>("E-mail").value).toBe("edda@morrow.example");
    expect(changes(asked)[0]?.body).toEqual({ email: "edda@morrow.example", password: "honeycomb" });
  });

  it("asks for nothing while a field is empty", async () => {
    const asked = service();
    open(<SignIn />);
    await userEvent.click(screen.getByRole("button", { name: "Sign in" }));
    expect(changes(asked)).toEqual([]);
  });
});

describe("many orders at once", () => {
  const done = {
    id: 7,
    action: "tag",
    value: "gift",
    state: "done",
    total: 2,
    settled: 2,
    done: 1,
    undo: true,
    results: [
      { number: "O10003", state: "done", ok: true, text: "tagged" },
      { number: "O10002", state: "refused", ok: false, text: "has the tag already" },
    ],
  };

  const mark = async (n: number) => {
    await waitFor(() => expect(screen.getAllByRole("checkbox").length).toBeGreaterThan(2));
    for (const box of screen.getAllByRole("checkbox").slice(1, 1 + n)) await userEvent.click(box);
    return screen.getByRole("toolbar", { name: "Marked orders" });
  };

  it("asks for the tag, then says what became of each order", async () => {
    const asked = service({ "POST orders/actions": done });
    open(<Orders />);
    const bar = await mark(2);
    expect(bar.textContent).toContain("2 orders");
    await userEvent.click(within(bar).getByRole("button", { name: "Tag" }));
    await userEvent.type(within(await screen.findByRole("dialog")).getByRole("textbox"), "gift{Enter}");
    await said("has the tag already");
    expect(changes(asked)[0]).toMatchObject({ path: "orders/actions", body: { action: "tag", value: "gift" } });
    expect((changes(asked)[0]?.body as { orders: string[] }).orders).toHaveLength(2);
  });

  it("takes it back", async () => {
    const asked = service({ "POST orders/actions": done, "POST orders/actions/7/undo": { ...done, action: "untag", undo: false } });
    open(<Orders />);
    const bar = await mark(1);
    expect(bar.textContent).toContain("1 order");
    await userEvent.click(within(bar).getByRole("button", { name: "Tag" }));
    await userEvent.type(within(await screen.findByRole("dialog")).getByRole("textbox"), "gift{Enter}");
    await userEvent.click(await screen.findByRole("button", { name: /Take it back|Undo/ }));
    await waitFor(() => expect(changes(asked).map((a) => a.path)).toContain("orders/actions/7/undo"));
  });

  it("says why nothing was done", async () => {
    service({ "POST orders/actions": refused(422, "a tag has 1 to 60 characters and neither comma nor quotes") });
    open(<Orders />);
    const bar = await mark(1);
    await userEvent.click(within(bar).getByRole("button", { name: "Tag" }));
    await userEvent.type(within(await screen.findByRole("dialog")).getByRole("textbox"), "a,b{Enter}");
    await said("neither comma nor quotes");
  });
});

describe("finding orders", () => {
  it("asks for a stage, a channel and words, which stand in the address", async () => {
    const asked = service();
    open(<Orders />, "/orders?stage=held&connection=stall&q=S-3");
    await waitFor(() => expect(asked.some((a) => a.path === "orders")).toBe(true));
    const query = asked.find((a) => a.path === "orders")?.query;
    expect([query?.get("stage"), query?.get("connection"), query?.get("q")]).toEqual(["held", "stall", "S-3"]);
    expect(screen.getByLabelText<HTMLInputElement>("Search orders").value).toBe("S-3");
  });

  it("says that a filter hides everything, and takes it away", async () => {
    const asked = service({ orders: (a: Asked) => (a.query.get("q") ? [] : answer("orders")) });
    open(<Orders />, "/orders?q=nothing");
    await said("No order fits");
    await userEvent.click(screen.getByRole("button", { name: "Take all filters away" }));
    await said("O10001");
    expect(
      asked
        .filter((a) => a.path === "orders")
        .at(-1)
        ?.query.get("q"),
    ).toBeNull();
  });
});

describe("picking", () => {
  const shipment = "shipments/S10002";
  const scanned = (text: string) => ({
    outcome: { kind: "product", text },
    wants: answer<Schema<"ShipmentView">>(shipment).wants,
    expected: "the next",
  });

  it("is led by printed commands", async () => {
    const s = answer<Schema<"ShipmentView">>(shipment);
    s.state = "picking";
    s.wants = s.wants.map((w) => ({ ...w, picked: 0, packed: 0 }));
    const asked = service({
      [shipment]: s,
      [`POST ${shipment}/scan`]: { outcome: { kind: "product", sku: "JAR", text: "One JAR" }, expected: "more", wants: s.wants },
      [`POST ${shipment}/take-back`]: s,
    });
    open(<Pick />, "/pick/S10002", "/pick/:number");
    const field = await screen.findByLabelText("Scan");
    await userEvent.type(field, "DO-DONE{Enter}");
    await said("units are still to be picked");
    await userEvent.type(field, "DO-BACK{Enter}");
    await said("Nothing was scanned here that could be taken back");
    await userEvent.type(field, "JAR{Enter}");
    await said("One JAR");
    await userEvent.type(field, "DO-BACK{Enter}");
    await said("One JAR put back");
    expect(changes(asked).map((a) => a.path)).toEqual([`${shipment}/scan`, `${shipment}/take-back`]);
  });

  it("counts a scan and says so", async () => {
    const asked = service({ [`POST ${shipment}/scan`]: scanned("1 × JAR") });
    open(<Pick />, "/pick/S10002", "/pick/:number");
    await userEvent.type(await screen.findByPlaceholderText(/Scan/), "JAR{Enter}");
    await said("1 × JAR");
    expect(changes(asked)[0]?.body).toMatchObject({ code: "JAR" });
  });

  it("refuses a wrong scan loudly, with what was expected", async () => {
    service({ [`POST ${shipment}/scan`]: refused(409, "GHOST is not in this shipment. Expected: JAR from its bin") });
    open(<Pick />, "/pick/S10002", "/pick/:number");
    await userEvent.type(await screen.findByPlaceholderText(/Scan/), "GHOST{Enter}");
    await said("GHOST is not in this shipment");
  });

  describe("where no place has what is missing", () => {
    const short = {
      text: "1 × LID wait, no place has them",
      elsewhere: 0,
      waiting: 1,
      expected: 4,
      waits: [{ order: "O10002", line: 2049, units: 1, kept: 2 }],
    };
    const missing = async (me: object) => {
      const asked = service({ [`POST ${shipment}/short`]: short, me });
      open(<Pick />, "/pick/S10002", "/pick/:number");
      await userEvent.click(await screen.findByRole("button", { name: "LID is not there" }));
      await userEvent.click(await screen.findByRole("button", { name: "It is not there" }));
      await said("4 are on order");
      return asked;
    };

    it("sends the rest without it", async () => {
      const asked = await missing(as("clerk"));
      await userEvent.click(screen.getByRole("button", { name: "Send the rest without" }));
      await said("The rest is sent without");
      expect(changes(asked)[1]).toMatchObject({
        path: "orders/O10002/plan",
        body: { kind: "keep back", lines: { 2049: 3 }, reason: "not found" },
      });
    });

    it("cancels it, with a reason that the channel is told", async () => {
      const asked = await missing(as("clerk"));
      await userEvent.click(screen.getByRole("button", { name: "Cancel them …" }));
      await userEvent.type(screen.getByLabelText(/Why/), "not found");
      await userEvent.click(screen.getByRole("button", { name: "Cancel these units" }));
      await said("Cancelled; the channel is told");
      expect(changes(asked)[1]).toMatchObject({ path: "orders/O10002/cancel", body: { reason: "not found", lines: { 2049: 1 } } });
    });

    it("goes on with the other orders of a round where one refuses, and does each once", async () => {
      let refuses = true;
      const waits = [
        { order: "O1", line: 1, units: 1, kept: 0 },
        { order: "O2", line: 2, units: 1, kept: 0 },
      ];
      const asked = service({
        me: as("clerk"),
        [`POST ${shipment}/short`]: { ...short, waits },
        "POST orders/O1/plan": () => (refuses ? refused(409, "nothing of order O1 would be sent; hold the order instead") : {}),
      });
      open(<Pick />, "/pick/S10002", "/pick/:number");
      await userEvent.click(await screen.findByRole("button", { name: "LID is not there" }));
      await userEvent.click(await screen.findByRole("button", { name: "It is not there" }));
      await userEvent.click(await screen.findByRole("button", { name: "Send the rest without" }));
      await said("hold the order instead");
      refuses = false;
      await userEvent.click(screen.getByRole("button", { name: "Send the rest without" }));
      await said("The rest is sent without");
      expect(changes(asked).map((a) => a.path)).toEqual([`${shipment}/short`, "orders/O1/plan", "orders/O2/plan", "orders/O1/plan"]);
    });

    it("lets it wait, and tells a packer who can do more", async () => {
      await missing({ ...as("clerk"), may: ["look", "ship"] });
      await said("Whoever works on orders can send the rest");
      await userEvent.click(screen.getByRole("button", { name: "Let it wait" }));
      await said("1 × LID wait, no place has them");
    });
  });

  it("is told what is not there, and says what becomes of it", async () => {
    const asked = service({
      [`POST ${shipment}/short`]: { text: "1 × LID wait, no place has them", elsewhere: 0, waiting: 1, expected: 0 },
    });
    open(<Pick />, "/pick/S10002", "/pick/:number");
    await userEvent.click(await screen.findByRole("button", { name: "LID is not there" }));
    await userEvent.click(await screen.findByRole("button", { name: "It is not there" }));
    await said("1 × LID wait, no place has them");
    expect(changes(asked)[0]?.body).toMatchObject({ code: "LID", quantity: 1 });
  });

  it("takes a unit back", async () => {
    const now = answer<Schema<"ShipmentView">>(shipment);
    const some = structuredClone(now);
    some.wants[0]!.picked = 1;
    const sku = some.wants[0]!.sku;
    const asked = service({ [shipment]: some, [`POST ${shipment}/take-back`]: now });
    open(<Pick />, "/pick/S10002", "/pick/:number");
    await userEvent.click(await screen.findByRole("button", { name: `Take back one ${sku}` }));
    await said(`One ${sku} put back`);
    expect(changes(asked)[0]?.body).toEqual({ code: sku });
  });

  it("goes on to the parcel when all is picked", async () => {
    const all = answer<Schema<"ShipmentView">>(shipment);
    for (const w of all.wants) w.picked = w.quantity;
    service({ [shipment]: all });
    open(<Pick />, "/pick/S10002", "/pick/:number");
    await userEvent.click(await screen.findByRole("button", { name: "Pack" }));
    await said("another page");
  });
});

describe("stock", () => {
  it("shows what an adjustment will come to, and sends it once", async () => {
    const asked = service({ "POST items/JAR/adjust": answer("items/JAR") });
    open(<Item />, "/stock/JAR", "/stock/:sku");
    await userEvent.click(await screen.findByRole("button", { name: "Adjust stock" }));
    const form = await screen.findByRole("dialog");
    await userEvent.type(within(form).getByLabelText(/Units added/), "-3");
    expect(form.textContent).toContain("→ 5");
    await userEvent.type(within(form).getByLabelText("Why"), "broken{Enter}");
    await waitFor(() => expect(changes(asked)).toHaveLength(1));
    expect(changes(asked)[0]?.body).toEqual({ location: "alder", change: -3, reason: "broken" });
    expect(changes(asked)[0]?.header.get("Idempotency-Key")).toBeTruthy();
    await waitFor(() => expect(screen.queryByRole("dialog")).toBeNull());
  });

  it("keeps the form and says why where it is refused", async () => {
    service({ "POST items/JAR/adjust": refused(409, "JAR at Alder Yard: only 10 on hand, 99 cannot be taken away") });
    open(<Item />, "/stock/JAR", "/stock/:sku");
    await userEvent.click(await screen.findByRole("button", { name: "Adjust stock" }));
    const form = await screen.findByRole("dialog");
    await userEvent.type(within(form).getByLabelText(/Units added/), "-99");
    await userEvent.type(within(form).getByLabelText("Why"), "lost{Enter}");
    await said("99 cannot be taken away");
    expect(within(form).getByLabelText<HTMLInputElement>("Why").value).toBe("lost");
  });

  it("explains a quantity step by step", async () => {
    service({ "connections/stall/listings/L-JAR/why": answer("connections/stall/listings/JAR/why") });
    open(<Item />, "/stock/JAR", "/stock/:sku");
    await userEvent.click(await screen.findByRole("button", { name: /Why does The stall show/ }));
    await said("Allocated to orders at Alder Yard");
  });

  it("looks for words after a moment, not at each letter", async () => {
    const asked = service();
    open(<Stock />);
    await said("Alder Yard");
    const before = asked.length;
    await userEvent.type(screen.getByRole("searchbox"), "jar");
    await waitFor(() => expect(asked.at(-1)?.query.get("q")).toBe("jar"));
    expect(asked.slice(before).filter((a) => a.path === "stock").length).toBeLessThan(3);
  });
});

describe("what needs a person", () => {
  it("says which item an unknown SKU is, and all its orders go on", async () => {
    const asked = service({
      "POST exceptions/known": { sku: "JAR", created: false, freed: 1 },
      "exceptions/suggest": [{ sku: "JAR", name: "A JAR", score: 62, why: ["title has jar"] }],
      "exceptions/of": [],
    });
    open(<Exceptions />);
    await userEvent.click((await screen.findAllByText("GHOST"))[0]!);
    await userEvent.click(await screen.findByRole("button", { name: "GHOST is JAR" }));
    await waitFor(() => expect(changes(asked)).toHaveLength(1));
    expect(changes(asked)[0]?.body).toMatchObject({ connection: "stall", sold: "GHOST", sku: "JAR" });
  });

  it("lets somebody look after it", async () => {
    const asked = service({
      "POST exceptions/assign": { count: 1 },
      "exceptions/of": [],
      "exceptions/suggest": [],
      "people-here": ["Joss Fenn"],
    });
    open(<Exceptions />);
    await userEvent.click((await screen.findAllByText("GHOST"))[0]!);
    await userEvent.selectOptions(await screen.findByLabelText("Looked after by"), "Joss Fenn");
    await waitFor(() => expect(changes(asked)[0]?.body).toMatchObject({ assignee: "Joss Fenn", subject: "GHOST" }));
  });
});

describe("goods that come in", () => {
  it("takes a scan with its bin and units, once", async () => {
    const asked = service({ "POST purchases/P10001/receive": answer("purchases/P10001") });
    open(<Receive />, "/receiving/P10001", "/receiving/:number");
    await userEvent.type(await screen.findByLabelText("Bin"), "A-1");
    await userEvent.type(screen.getByPlaceholderText("Scan the product"), "JAR{Enter}");
    await waitFor(() => expect(changes(asked)).toHaveLength(1));
    expect(changes(asked)[0]?.body).toMatchObject({ items: [{ code: "JAR", bin: "A-1" }] });
    expect(changes(asked)[0]?.header.get("Idempotency-Key")).toBeTruthy();
  });

  it("asks before more is taken in than was ordered", async () => {
    service({ "POST purchases/P10001/receive": refused(409, "21 × JAR is more than is to come: 20 ordered, 0 received already") });
    open(<Receive />, "/receiving/P10001", "/receiving/:number");
    await userEvent.type(await screen.findByPlaceholderText("Scan the product"), "JAR{Enter}");
    await said("more than is to come");
  });

  it("counts by scanning, one more each time", async () => {
    const asked = service({ "POST counts/C10001/lines": answer("counts/C10001") });
    open(<Count />, "/counts/C10001", "/counts/:number");
    await userEvent.type(await screen.findByPlaceholderText("Scan the product"), "JAR{Enter}");
    await waitFor(() => expect(changes(asked)).toHaveLength(1));
    expect(changes(asked)[0]?.body).toMatchObject({ code: "JAR" });
  });
});

describe("settings", () => {
  it("are for leads", async () => {
    service({ me: as("clerk") });
    open(<Settings />);
    await said("this is for those with the role lead");
    expect(screen.queryByRole("region", { name: "The company" })).toBeNull();
  });

  it("say which zone there is not, and keep what was typed", async () => {
    service({ "PUT company": refused(422, "time_zone: there is no zone Moon/Base") });
    open(<Settings />);
    const zone = await screen.findByPlaceholderText<HTMLInputElement>("UTC");
    await userEvent.clear(zone);
    await userEvent.type(zone, "Moon/Base{Enter}");
    await said("there is no zone Moon/Base");
    expect(zone.value).toBe("Moon/Base");
  });
});

import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import type { Schema } from "../../api/client";
import { as, answer, type Asked, changes, onACleanPage, open, refused, said, service } from "../../testing/service";
import Exceptions from "./exceptions";

onACleanPage();

type Exception = Schema<"Exception">;

/** An exception that stands for a group of them. */
const raised = (e: Partial<Exception>): Exception => ({
  ...answer<Exception[]>("exceptions")[0]!,
  cause: "write-back refused",
  subject: "closed",
  connection: "stall",
  text: "The stall refused stock out of listing 1: closed",
  count: 3,
  orders: 0,
  order_number: undefined,
  outbox_id: undefined,
  inbox_id: undefined,
  settled: false,
  sku: undefined,
  ...e,
});

/** Shows one group, of which each exception is like the first. */
const show = (e: Partial<Exception>, say: Record<string, unknown> = {}) => {
  const asked = service({ exceptions: [raised(e)], "exceptions/of": [raised(e)], "exceptions/suggest": [], ...say });
  open(<Exceptions />, "/exceptions");
  return asked;
};

const bulk = (settled: number, state: "waiting" | "done") => ({
  id: 9,
  action: "approve",
  state,
  total: 250,
  settled,
  done: settled,
  undo: false,
  results: [],
});

describe("messages that were not taken", () => {
  it("are sent again together, and the ones that cannot be are told with their reason", async () => {
    const asked = show(
      { outbox_id: 4 },
      { "POST exceptions/send-again": { count: 2, refused: 1, why: "a newer message about listing 2 was decided since" } },
    );
    await userEvent.click(await screen.findByRole("button", { name: "Send 3 again" }));
    await said("2 are sent again; 1 cannot be: a newer message about listing 2 was decided since");
    expect(changes(asked)[0]).toMatchObject({
      path: "exceptions/send-again",
      body: { cause: "write-back refused", connection: "stall", subject: "closed" },
    });
  });

  it("say why nothing of them can be sent", async () => {
    show({ outbox_id: 4, count: 1 }, { "POST exceptions/send-again": refused(409, "a newer message about listing 2 was decided since") });
    await userEvent.click(await screen.findByRole("button", { name: "Send it again" }));
    await said("a newer message about listing 2");
  });

  it("are taken in again where they came from outside", async () => {
    const asked = show({ cause: "message not understood", inbox_id: 8 }, { "POST connections/stall/try-again": { messages: 2 } });
    expect((await screen.findByRole("link", { name: "Type it beside the original" })).getAttribute("href")).toBe(
      "/type?inbox=8&connection=stall",
    );
    await userEvent.click(screen.getByRole("button", { name: "Take in again" }));
    await said("2 are taken in again");
    expect(changes(asked)).toHaveLength(1);
  });

  it("are taken in again, with a look at the order, where a dispatch did not fit", async () => {
    show(
      { cause: "dispatch not applied", inbox_id: 8, orders: 1, order_number: "O10004" },
      { "POST connections/stall/try-again": refused(404, "There is no connection stall.") },
    );
    expect((await screen.findByRole("link", { name: "See the order" })).getAttribute("href")).toBe("/orders/O10004");
    await userEvent.click(screen.getByRole("button", { name: "Take in again" }));
    await said("There is no connection stall.");
  });
});

describe("orders that are held", () => {
  const held = { cause: "wants a look", subject: "", orders: 250, order_number: "O10001" };

  it("go on all together, followed until each has its outcome", async () => {
    let asks = 0;
    const asked = show(held, {
      "POST exceptions/let-go": bulk(40, "waiting"),
      "orders/actions/9": () => bulk(++asks < 2 ? 120 : 250, asks < 2 ? "waiting" : "done"),
    });
    await userEvent.click(await screen.findByRole("button", { name: "Let 250 orders go on" }));
    await said("of 250 have their outcome");
    expect(screen.getByRole<HTMLButtonElement>("button", { name: "Let 250 orders go on" }).disabled).toBe(true);
    await waitFor(() => expect(document.body.textContent).toContain("250 of 250 go on"), { timeout: 4000 });
    expect(changes(asked)[0]?.path).toBe("exceptions/let-go");
  });

  it("go on at once where there is one", async () => {
    show({ ...held, orders: 1 }, { "POST exceptions/let-go": { ...bulk(1, "done"), total: 1 } });
    await userEvent.click(await screen.findByRole("button", { name: "Let it go on" }));
    await said("1 of 1 go on");
  });

  it("say who was quicker", async () => {
    show(held, { "POST exceptions/let-go": refused(409, "no order waits for that any more") });
    await userEvent.click(await screen.findByRole("button", { name: "Let 250 orders go on" }));
    await said("no order waits for that any more");
  });

  it.each([
    ["bad address", "Correct the address", "/orders/O10001"],
    ["wants an answer", "Answer", "/orders/O10001"],
    ["service to be chosen", "Choose for this order", "/orders/O10001"],
    ["no stock", "See its stock", "/items/JAR"],
    ["credentials refused", "Renew access", "/connections/stall"],
    ["connection dead", "Look at it", "/connections/stall"],
    ["backlog", "Look at it", "/connections/stall"],
    ["backup failed", "Look at backups", "/settings/keeping"],
  ])("lead to where %s is mended", async (cause, words, to) => {
    show({ cause, subject: cause === "no stock" ? "JAR" : "", orders: 1, order_number: "O10001" });
    await waitFor(() => expect(screen.getByRole("link", { name: words }).getAttribute("href")).toBe(to));
  });
});

describe("a label of which nothing is known", () => {
  it("is asked for again", async () => {
    const asked = show({ cause: "label not known", outbox_id: 6, count: 1 }, { "POST exceptions/send-again": { count: 1 } });
    await userEvent.click(await screen.findByRole("button", { name: "Ask the carrier again" }));
    await said("1 are sent again");
    expect(changes(asked)[0]?.path).toBe("exceptions/send-again");
  });

  it("does not exist by a person's word, which frees the parcel", async () => {
    const asked = show({ cause: "label not known", outbox_id: 6, count: 1 });
    await userEvent.click(await screen.findByRole("button", { name: "The carrier has no such label" }));
    await said("The parcel can be shipped anew");
    expect(changes(asked)[0]?.path).toBe("outbox/6/not-bought");
  });
});

describe("what a person ends", () => {
  it.each([
    ["put back", "It is put back"],
    ["label not needed", "It is voided"],
    ["number not told", "They know it"],
  ])("%s by its own words", async (cause, words) => {
    const asked = show({ cause, settled: true });
    await userEvent.click(await screen.findByRole("button", { name: words }));
    await waitFor(() => expect(changes(asked)[0]?.path).toBe("exceptions/settle"));
    expect(screen.queryByRole("button", { name: "It was dealt with elsewhere" })).toBeNull();
  });

  it("is dealt with elsewhere only where that can be said", async () => {
    const asked = show({ cause: "edit not clear", sku: "JAR", settled: true });
    await userEvent.click(await screen.findByRole("button", { name: "It was dealt with elsewhere" }));
    await waitFor(() => expect(changes(asked)[0]?.path).toBe("exceptions/settle"));
  });

  it("sleeps for some hours, and is woken", async () => {
    const asked = show({ outbox_id: 4 }, { "POST exceptions/snooze": { count: 1 } });
    await userEvent.click(await screen.findByRole("button", { name: "Sleep 4 h" }));
    await waitFor(() => expect(changes(asked)).toHaveLength(1));
    const until = new Date((changes(asked)[0]?.body as { until: string }).until).getTime();
    expect(Math.round((until - Date.now()) / 60_000)).toBe(240);
  });

  it("is woken where it sleeps", async () => {
    const asked = service({ exceptions: [raised({ outbox_id: 4 })], "exceptions/of": [], "POST exceptions/snooze": { count: 1 } });
    open(<Exceptions />, "/exceptions?show=asleep");
    await userEvent.click(await screen.findByRole("button", { name: "Wake it" }));
    await waitFor(() => expect(changes(asked)[0]?.body).not.toHaveProperty("until"));
    expect(asked.find((a) => a.path === "exceptions")?.query.get("asleep")).toBe("true");
  });
});

describe("the list", () => {
  it("is mine where I ask for mine", async () => {
    const me = { ...answer<{ name: string }>("me"), email: "ada@morrowhive.example" };
    const asked = service({ exceptions: [], me });
    open(<Exceptions />, "/exceptions?show=mine");
    await said("Nothing. What cannot go on by itself will stand here");
    const list = asked.filter((a) => a.path === "exceptions");
    expect(list.at(-1)?.query.get("assignee")).toBe("ada@morrowhive.example");
  });

  it("is mine by the name where an access token has no e-mail", async () => {
    const me = { ...answer<{ name: string }>("me"), email: "" };
    const asked = service({ exceptions: [], me });
    open(<Exceptions />, "/exceptions?show=mine");
    await said("Nothing. What cannot go on by itself will stand here");
    const list = asked.filter((a) => a.path === "exceptions");
    expect(list.at(-1)?.query.get("assignee")).toBe(me.name);
  });

  it("is narrowed to a cause, and walked by keys", async () => {
    const asked = service({
      exceptions: (a: Asked) =>
        a.query.get("cause") ? [raised({ cause: "no stock", subject: "JAR" })] : [raised({ outbox_id: 4 }), raised({ subject: "other" })],
      "exceptions/causes": [{ name: "no stock", n: 1 }],
      "exceptions/of": [],
    });
    open(<Exceptions />, "/exceptions");
    const rows = await screen.findAllByRole("row");
    expect(rows).toHaveLength(2);
    rows[0]!.focus();
    await userEvent.keyboard("j{Enter}");
    await waitFor(() => expect(rows[1]!.getAttribute("aria-selected")).toBe("true"));
    await userEvent.click(within(screen.getByRole("navigation", { name: "Causes" })).getByRole("button", { name: /no stock/ }));
    await waitFor(() => expect(asked.some((a) => a.query.get("cause") === "no stock")).toBe(true));
  });

  it("shows those who may only look nothing that changes anything", async () => {
    service({ exceptions: [raised({ outbox_id: 4 })], "exceptions/of": [], me: as("viewer") });
    open(<Exceptions />, "/exceptions");
    await said("Expected:");
    expect(screen.queryByRole("button", { name: /again/ })).toBeNull();
    expect(screen.queryByRole("button", { name: /Sleep/ })).toBeNull();
  });
});

describe("an unknown SKU", () => {
  const unknown = { cause: "unknown item", subject: "GHOST", orders: 2 };

  it("becomes a new item", async () => {
    const asked = show(unknown, { "POST exceptions/known": { sku: "GHOST", created: true, freed: 2 } });
    await userEvent.click(await screen.findByRole("button", { name: "Make it a new item" }));
    await said("GHOST is GHOST now; 2 orders go on");
    expect(changes(asked)[0]?.body).toMatchObject({ sku: "GHOST", create: true });
  });

  it("is another SKU, typed", async () => {
    const asked = show(unknown, { "POST exceptions/known": refused(404, "There is no item JUG.") });
    await userEvent.type(await screen.findByLabelText("SKU of the item"), "JUG{Enter}");
    await said("There is no item JUG.");
    expect(changes(asked)[0]?.body).toMatchObject({ sku: "JUG", create: false });
  });
});

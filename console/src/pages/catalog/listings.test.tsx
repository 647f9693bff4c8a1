import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import type { Schema } from "../../api/client";
import { answer, type Asked, changes, onACleanPage, open, refused, said, service } from "../../testing/service";
import Listings from "./listings";
import Publish from "./publish";

onACleanPage();

type Listing = Schema<"Listing">;

/** A listing that waits to be matched, but for what a test says. */
const listing = (l: Partial<Listing> = {}): Listing => ({
  ...answer<Listing[]>("listings")[0]!,
  id: 5,
  sku: "POT",
  title: "A pot",
  item: "",
  matched_by: "",
  suggestions: [
    { item_id: 1, sku: "JAR", name: "A jar", score: 71, reasons: ["title has jar"] },
    { item_id: 2, sku: "LID", name: "A lid", score: 22, reasons: ["same price"] },
  ],
  ...l,
});

const show = (list: Listing[], say: Record<string, unknown> = {}, at = "/listings") => {
  const asked = service({ listings: list, ...say });
  open(<Listings />, at);
  return asked;
};

describe("a listing that waits", () => {
  it("is what it may be, its orders go on, and that is taken back", async () => {
    const asked = show([listing({ waiting: 2 })], { "POST listings/5/match": {}, "POST listings/5/unmatch": {} });
    await said("2 orders wait for it");
    await userEvent.click(screen.getByRole("button", { name: "A pot is JAR" }));
    await said("A pot on The stall is JAR now. 2 waiting orders go on.");
    await userEvent.click(screen.getByRole("button", { name: "Undo" }));
    await waitFor(() => expect(changes(asked).map((a) => a.path)).toEqual(["listings/5/match", "listings/5/unmatch"]));
    expect(changes(asked)[0]?.body).toEqual({ item: "JAR" });
  });

  it("is another item, for every listing with its SKU", async () => {
    const asked = show([listing()], {
      "POST listings/5/match": {},
      items: [{ ...answer<object[]>("items")[0]!, sku: "JAR", name: "A jar" }],
    });
    await userEvent.click(await screen.findByRole("button", { name: "Another, or new" }));
    const sheet = await screen.findByRole("dialog");
    await userEvent.type(within(sheet).getByLabelText("Find an item"), "ja");
    await userEvent.click(within(sheet).getByRole("checkbox"));
    await userEvent.click(await within(sheet).findByRole("button", { name: "JAR" }));
    await waitFor(() => expect(changes(asked)[0]?.body).toEqual({ item: "JAR", every: true }));
    await waitFor(() => expect(screen.queryByRole("dialog")).toBeNull());
  });

  it("becomes a new item, and a SKU that is taken keeps the form open", async () => {
    show([listing()], { "POST listings/5/create-item": refused(409, "there is an item POT already") });
    await userEvent.click(await screen.findByRole("button", { name: "Another, or new" }));
    const sheet = await screen.findByRole("dialog");
    expect(within(sheet).getByLabelText<HTMLInputElement>("SKU of the new item").value).toBe("POT");
    await userEvent.click(within(sheet).getByRole("button", { name: "Make an item of it" }));
    await said("there is an item POT already");
    expect(screen.getByRole("dialog")).toBeTruthy();
  });

  it("is left alone on purpose, and looked at again", async () => {
    const asked = show([listing()], { "POST listings/5/ignore": {} });
    await userEvent.click(await screen.findByRole("button", { name: "Ignore" }));
    await said("A pot is left alone.");
    await userEvent.click(screen.getByRole("button", { name: "Undo" }));
    await waitFor(() => expect(changes(asked).map((a) => a.body)).toEqual([{ ignore: true }, { ignore: false }]));
  });

  it("is like nothing of ours", async () => {
    show([listing({ suggestions: [], doubt: "two items have this SKU", title: "" })]);
    await said("Nothing of ours is like it.");
    await said("Two items have this SKU");
    await said("(no title)");
  });
});

describe("a listing that is matched", () => {
  it("waits again when its match ends, and gets it back", async () => {
    const asked = show([listing({ item: "JAR", matched_by: "same SKU" })], { "POST listings/5/unmatch": {}, "POST listings/5/match": {} });
    await userEvent.click(await screen.findByRole("button", { name: "End match" }));
    await said("A pot waits to be matched again.");
    await userEvent.click(screen.getByRole("button", { name: "Undo" }));
    await waitFor(() => expect(changes(asked).at(-1)?.body).toEqual({ item: "JAR" }));
  });

  it("is asked for by which, channel and words", async () => {
    const asked = show([], {}, "/listings?match=ignored&connection=stall&q=pot");
    await said("No listing fits.");
    const query = asked.find((a) => a.path === "listings")?.query;
    expect([query?.get("match"), query?.get("connection"), query?.get("q")]).toEqual(["ignored", "stall", "pot"]);
  });

  it("of all is one of any kind", async () => {
    const asked = show([listing({ ignored_by: "Edda" })], { "POST listings/5/ignore": {} }, "/listings?match=all");
    await said("ignored by Edda");
    expect(asked.find((a) => a.path === "listings")?.query.get("match")).toBe("");
    await userEvent.click(screen.getByRole("button", { name: "Notice again" }));
    await said("A pot is looked at again.");
  });

  it("says that nothing waits", async () => {
    show([]);
    await said("Every listing is an item of ours, or is ignored on purpose.");
  });
});

describe("publishing", () => {
  const shelf = (on: boolean) => {
    const c = answer<Schema<"Connection">[]>("connections")[0]!;
    return [{ ...c, code: "shelf", name: "The shelf", state: "on", feeds: [{ ...c.feeds[0]!, kind: "items out", on, revision: 3 }] }];
  };
  const row = (sku: string, action: string, reason = "") => ({
    sku,
    action,
    reason,
    message: { title: `A ${sku}`, price: 1000, currency: "EUR", quantity: 7, category: "jars" },
  });
  const preview = {
    digest: "d1",
    sent: 1,
    rows: [row("JAR", "list"), row("LID", "refused", "it has no price"), row("POT", "nothing")],
    requests: [{ method: "POST", url: "http://shelf.test/items", body: '{"sku":"JAR"}' }],
  };
  const at = "/publish?connection=shelf&skus=JAR,LID,POT";

  it("shows what would be sent, to the letter, and sends just that", async () => {
    const asked = service({
      connections: shelf(true),
      "POST connections/shelf/publish/preview": preview,
      "POST connections/shelf/publish": { sent: 1 },
    });
    open(<Publish />, at);
    await said("it has no price");
    await said('{"sku":"JAR"}');
    expect(document.body.textContent).toContain("3 items looked at, 1 to send in 1 request");
    await userEvent.click(screen.getByRole("button", { name: "Send 1" }));
    await said("1 sent.");
    const sent = changes(asked).find((a) => a.path === "connections/shelf/publish");
    expect(sent?.body).toEqual({ skus: ["JAR", "LID", "POT"], digest: "d1" });
  });

  it("tells that something changed since it was looked at", async () => {
    service({
      connections: shelf(true),
      "POST connections/shelf/publish/preview": preview,
      "POST connections/shelf/publish": refused(409, "JAR was changed since you looked; look again"),
    });
    open(<Publish />, at);
    await userEvent.click(await screen.findByRole("button", { name: "Send 1" }));
    await said("JAR was changed since you looked; look again");
  });

  it("switches the feed on where it is off", async () => {
    const asked = service({ connections: shelf(false), "POST connections/shelf/publish/preview": preview });
    open(<Publish />, at);
    await said("items out is off on The shelf");
    await userEvent.click(screen.getByRole("button", { name: "Switch it on" }));
    await waitFor(() => expect(changes(asked).some((a) => a.method === "PATCH")).toBe(true));
    expect(
      changes(asked)
        .find((a) => a.method === "PATCH")
        ?.header.get("If-Match"),
    ).toBe('"3"');
  });

  it("reads SKUs as people write them, or a mark", async () => {
    const asked = service({
      connections: shelf(true),
      "POST connections/shelf/publish/preview": (a: Asked) => ({ ...preview, digest: JSON.stringify(a.body) }),
    });
    open(<Publish />, "/publish?connection=shelf");
    await said("Nothing leaves before you say so.");
    await userEvent.type(screen.getByLabelText("Items, by their SKUs"), "JAR; LID, POT{Enter}");
    await waitFor(() => expect(changes(asked).at(-1)?.body).toEqual({ skus: ["JAR", "LID", "POT"] }));
    await userEvent.type(screen.getByLabelText("or all with the mark"), "spring{Enter}");
    await waitFor(() => expect(changes(asked).at(-1)?.body).toEqual({ mark: "spring" }));
  });

  it("says that no channel takes items", async () => {
    service({ connections: [] });
    open(<Publish />, "/publish");
    await said("No channel that is joined takes items from us.");
  });
});

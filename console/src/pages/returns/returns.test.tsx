import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import type { Schema } from "../../api/client";
import { answer, changes, onACleanPage, open, refused, said, service } from "../../testing/service";
import Return from "./return";
import Returns from "./returns";

type View = Schema<"ReturnView">;

/** Of two jars that are to come, one is here and waits for a look. */
const half = (over: Partial<View> = {}): View => ({ ...answer<View>("returns/B10001"), ...over });

const bench = (say: Record<string, unknown>) => {
  const asked = service(say);
  open(<Return />, "/returns/B10001", "/returns/:number");
  return asked;
};

describe("the bench for what comes back", () => {
  onACleanPage();

  it("takes in what is scanned, as what was chosen", async () => {
    const asked = bench({ "POST returns/B10001/scan": half({ revision: 9 }) });
    await userEvent.click(await screen.findByRole("radio", { name: /Written off/ }));
    await userEvent.type(screen.getByLabelText("Scan"), "LID{Enter}");
    await said("LID: written off");
    expect(changes(asked)[0]?.body).toMatchObject({ code: "LID", outcome: "written off" });
    await userEvent.click(screen.getByRole("radio", { name: /To stock/ }));
    await userEvent.type(screen.getByLabelText("Into bin"), "A-1");
    await userEvent.type(screen.getByLabelText("Scan"), "JAR{Enter}");
    await waitFor(() => expect(changes(asked)[1]?.body).toMatchObject({ code: "JAR", outcome: "stock", bin: "A-1" }));
  });

  it("is led by printed commands", async () => {
    const asked = bench({ "POST returns/B10001/scan": half(), "POST returns/B10001/move": half() });
    const field = await screen.findByPlaceholderText("Scan what came back");
    await userEvent.type(field, "DO-BACK{Enter}");
    await said("Nothing was scanned here that could be taken back");
    await userEvent.type(field, "DO-OFF{Enter}");
    await said("What is scanned now: Written off");
    await userEvent.type(field, "JAR{Enter}");
    await said("JAR: written off");
    await userEvent.type(field, "DO-BACK{Enter}");
    await said("JAR is taken back");
    expect(changes(asked).map((a) => a.body)).toMatchObject([
      { code: "JAR", outcome: "written off" },
      { code: "JAR", from: "written off" },
    ]);
  });

  it("says loudly what did not leave with the order", async () => {
    bench({ "POST returns/B10001/scan": refused(409, "“SMOKER” did not leave with order O10004. Expected 1 × JAR") });
    await userEvent.type(await screen.findByLabelText("Scan"), "SMOKER{Enter}");
    await said("Wrong: “SMOKER” did not leave with order O10004");
    await said("Expected: 1 × JAR");
  });

  it("takes an unknown serial number on a person's word", async () => {
    const v = half();
    v.lines[0]!.serials = true;
    const asked = bench({
      "returns/B10001": v,
      "POST returns/B10001/scan": ({ body }: { body: unknown }) =>
        (body as { sure?: boolean }).sure ? v : refused(409, "serial number Z9 of JAR is not known; if it is, say that you are sure"),
    });
    await userEvent.type(await screen.findByLabelText("Scan"), "JAR Z9{Enter}");
    await userEvent.click(await screen.findByRole("button", { name: "It is of this order all the same" }));
    await waitFor(() => expect(changes(asked)[1]?.body).toMatchObject({ code: "JAR", serial: "Z9", sure: true }));
  });

  it("decides on what was looked at, and takes a scan back", async () => {
    const asked = bench({ "POST returns/B10001/move": half({ revision: 9 }) });
    await userEvent.click(await screen.findByRole("button", { name: "Fit for stock: one JAR" }));
    await userEvent.click(screen.getByRole("button", { name: "Take back: one JAR" }));
    await waitFor(() => expect(changes(asked)).toHaveLength(2));
    expect(changes(asked)[0]?.body).toMatchObject({ code: "JAR", from: "look", to: "stock" });
    expect(changes(asked)[1]?.body).toEqual({ code: "JAR", from: "look" });
  });

  it("proposes a refund; another sum is asked about", async () => {
    const v = half();
    const asked = bench({ "POST returns/B10001/settle": half({ state: "settled", refund: 500, revision: 9 }) });
    const field = await screen.findByRole("textbox", { name: /The buyer gets back/ });
    expect((field as HTMLInputElement).value).toBe("10.00");
    await userEvent.clear(field);
    await userEvent.type(field, "5");
    await userEvent.type(screen.getByRole("textbox", { name: "Why another sum" }), "used");
    await userEvent.click(screen.getByRole("button", { name: "Give it back, and end it" }));
    await said("Given back");
    expect(changes(asked)[0]?.body).toEqual({ amount: 500, note: "used" });
    expect(changes(asked)[0]?.header.get("If-Match")).toBe(`"${v.revision}"`);
  });

  it("sends the same again in exchange", async () => {
    const asked = bench({ "POST returns/B10001/exchange": half({ exchange: "O10009", revision: 9 }) });
    await userEvent.click(await screen.findByRole("button", { name: "Send something in its place" }));
    await userEvent.click(screen.getByRole("button", { name: "Make the order" }));
    await said("is sent in its place");
    expect(changes(asked)[0]?.body).toEqual({ lines: [{ sku: "JAR", quantity: 2 }] });
  });

  it("is called off where nothing came", async () => {
    const asked = bench({
      "returns/B10001": half({ state: "announced", came: 0 }),
      "POST returns/B10001/call-off": half({ state: "called off", revision: 9 }),
    });
    await userEvent.click(await screen.findByRole("button", { name: "It does not come" }));
    await said("Called off");
    expect(changes(asked)).toHaveLength(1);
  });
});

describe("the list of what comes back", () => {
  onACleanPage();

  it("opens the return of an order that is scanned, or begins one", async () => {
    const o = answer<Schema<"Order">>("orders/S-4");
    service({ "returns/O10004": refused(404, "no such return"), "orders/O10004": o });
    open(<Returns />, "/returns", "/returns");
    await said("one is chipped");
    await userEvent.type(screen.getByLabelText("Scan"), "O10004{Enter}");
    await said("another page");
  });

  it("begins one where there is none", async () => {
    const o = { ...answer<Schema<"Order">>("orders/S-4"), returns: [] };
    const asked = service({ "returns/O10004": refused(404, "no"), "orders/O10004": o, "POST returns": half({ number: "B10002" }) });
    open(<Returns />, "/returns", "/returns");
    await userEvent.type(await screen.findByLabelText("Scan"), "O10004{Enter}");
    await said("another page");
    expect(changes(asked)[0]?.body).toEqual({ order: "O10004" });
  });

  it("says what no order goes by", async () => {
    service({ "POST returns": refused(404, "order GHOST: not found") });
    open(<Returns />, "/returns", "/returns");
    await userEvent.type(await screen.findByLabelText("Scan"), "GHOST{Enter}");
    await said("Wrong: order GHOST: not found");
  });
});

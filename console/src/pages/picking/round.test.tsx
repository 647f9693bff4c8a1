import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import type { Schema } from "../../api/client";
import { answer, changes, onACleanPage, open, refused, said, service } from "../../testing/service";
import Picking from "./picking";
import Round from "./round";

type View = Schema<"RoundView">;

/** Two orders on the cart: a jar, and two jars and a lid. */
const cart = (over: Partial<View> = {}): View => ({ ...answer<View>("rounds/W10001"), ...over });

const walk = (say: Record<string, unknown>) => {
  const asked = service(say);
  open(<Round />, "/rounds/W10001", "/rounds/:number");
  return asked;
};

describe("a round", () => {
  onACleanPage();

  it("says what to take next, and into which slots", async () => {
    walk({});
    await said("take 3");
    expect(within(await screen.findByTestId("slot 1")).getByText("+1")).toBeTruthy();
    expect(within(screen.getByTestId("slot 2")).getByText("+2")).toBeTruthy();
    expect(screen.getByRole("link", { name: "80 mm" }).getAttribute("href")).toBe("/api/v1/rounds/W10001/round.pdf?size=roll");
  });

  it("scans, and says where it goes; a wrong scan is refused loudly", async () => {
    const outcome = { kind: "product", text: "JAR: 1 into slot 1" } as const;
    const asked = walk({
      "POST rounds/W10001/scan": ({ body }: { body: unknown }) =>
        (body as { code: string }).code === "JAR"
          ? cart({ said: outcome, picked: 1 })
          : refused(409, "“SPOON” is not part of round W10001. Expected JAR"),
    });
    await userEvent.type(await screen.findByLabelText("Scan"), "JAR{Enter}");
    await said("JAR: 1 into slot 1");
    await userEvent.type(screen.getByLabelText("Scan"), "SPOON{Enter}");
    await said("Wrong: “SPOON” is not part of round W10001");
    expect(changes(asked)[0]?.body).toEqual({ code: "JAR" });
  });

  it("is led by printed commands", async () => {
    const scanned = cart({ said: { kind: "product", sku: "JAR", text: "JAR: 1 into slot 1" }, picked: 1 });
    const asked = walk({ "POST rounds/W10001/scan": scanned, "POST rounds/W10001/take-back": cart() });
    const field = await screen.findByLabelText("Scan");
    await userEvent.type(field, "DO-BACK{Enter}");
    await said("Nothing was scanned here that could be taken back");
    await userEvent.type(field, "JAR{Enter}");
    await said("JAR: 1 into slot 1");
    await userEvent.type(field, "DO-BACK{Enter}");
    await said("One JAR put back");
    await userEvent.type(field, "DO-DONE{Enter}");
    await said("units are still to be picked");
    await userEvent.type(field, "DO-NEXT{Enter}");
    await said("A carton is filled at the bench");
    expect(changes(asked).map((a) => a.path)).toEqual(["rounds/W10001/scan", "rounds/W10001/take-back"]);
  });

  it("takes a scan back, and says that something is not there", async () => {
    const half = cart();
    half.stops[0]!.picked = 1;
    const asked = walk({
      "rounds/W10001": half,
      "POST rounds/W10001/take-back": half,
      "POST rounds/W10001/short": { text: "1 × JAR: the order waits", elsewhere: 0, waiting: 1, expected: 0 },
    });
    await userEvent.click(await screen.findByRole("button", { name: "Take back one JAR" }));
    await said("One JAR put back");
    await userEvent.click(screen.getByRole("button", { name: "JAR is not there" }));
    await userEvent.click(await screen.findByRole("button", { name: "One less of JAR" }));
    await userEvent.click(screen.getByRole("button", { name: "It is not there" }));
    await said("the order waits");
    expect(changes(asked).map((a) => a.body)).toEqual([{ code: "JAR" }, { code: "JAR", quantity: 1 }]);
  });

  it("is somebody else's until it is taken over", async () => {
    const asked = walk({ "rounds/W10001": cart({ mine: false, holder: "Pim" }), "POST rounds/W10001/take": cart({ holder: "Edda" }) });
    await said("Pim picks this round");
    expect(screen.queryByLabelText("Scan")).toBeNull();
    await userEvent.click(screen.getByRole("button", { name: "Take it over" }));
    expect(await screen.findByLabelText("Scan")).toBeTruthy();
    expect(changes(asked)[0]?.body).toEqual({ over: true });
  });

  it("is changed: an order is taken off, or all of it is taken apart", async () => {
    const asked = walk({ "POST rounds/W10001/leave": cart(), "POST rounds/W10001/take-apart": cart({ state: "taken apart" }) });
    await userEvent.click(await screen.findByRole("button", { name: "Change the round" }));
    await userEvent.click(screen.getAllByRole("button", { name: "Take off" })[1]!);
    await userEvent.click(screen.getByRole("button", { name: "Take the whole round apart" }));
    await waitFor(() => expect(changes(asked).map((a) => a.path)).toEqual(["rounds/W10001/leave", "rounds/W10001/take-apart"]));
    expect(changes(asked)[0]?.body).toEqual({ slot: 2 });
  });
});

describe("picking", () => {
  onACleanPage();

  it("makes a round of marked orders, and says what could not go into it", async () => {
    const asked = service({ "POST rounds": cart({ left: [{ order: "O10002", why: "it is held" }] }) });
    open(<Picking />, "/picking", "/picking");
    for (const box of (await screen.findAllByRole("checkbox")).slice(1, 3)) await userEvent.click(box);
    await userEvent.click(screen.getByRole("button", { name: "Pick them in one round" }));
    await said("it is held");
    expect((changes(asked)[0]?.body as { orders: string[] }).orders).toHaveLength(2);
  });

  it("begins the next round by a rule", async () => {
    const asked = service({ "POST rounds": cart({ left: [] }) });
    open(<Picking />, "/picking", "/picking");
    await userEvent.click(await screen.findByRole("button", { name: "Next: Standard" }));
    await said("another page");
    expect(changes(asked)[0]?.body).toEqual({ rule: "std" });
  });
});

import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import { changes, onACleanPage, open, said, service } from "../../testing/service";
import { AskedOf } from "./asked";

const request = (number: string, state: string, more = {}) => ({
  number,
  state,
  reference: `MH-${number}`,
  partner: "gate",
  partner_name: "Fallowgate",
  place: "gate",
  order: "R10001",
  asks: 1,
  currency: "EUR",
  cost: 0,
  billed: 0,
  lines: [{ line_id: 1, item_id: 1, sku: "JAR", title: "Jar", units: 2, sent: 0, refused: 0, called_off: 0 }],
  ...more,
});

describe("what partners were asked of an order", () => {
  onACleanPage();
  const order = { number: "R10001", revision: 3, stage: "held" } as never;

  it("stands there with why it was refused, and a way back", async () => {
    const asked = service({ "orders/R10001/requests": [request("Q1", "refused", { reason: "no trays" }), request("Q2", "acknowledged")] });
    open(<AskedOf order={order} />);
    await said("no trays");
    expect(screen.getAllByText("2 × JAR")).toHaveLength(2);
    await userEvent.click(await screen.findByText("Let Fallowgate be asked again"));
    await waitFor(() => expect(changes(asked)[0]).toMatchObject({ path: "orders/R10001/let-send", body: { place: "gate" } }));
  });

  it("opens a request, and says nothing of an order that no partner sends", async () => {
    service({
      "orders/R10001/requests": [request("Q2", "acknowledged")],
      "requests/Q2": request("Q2", "acknowledged", { their_id: "F7" }),
    });
    const page = open(<AskedOf order={order} />);
    await userEvent.click(await screen.findByText("Q2"));
    await said("F7");
    expect(screen.queryByText(/be asked again/)).toBeNull();
    page.unmount();
    service({ "orders/R10001/requests": [] });
    open(<AskedOf order={order} />);
    expect(screen.queryByText("Asked of partners")).toBeNull();
  });
});

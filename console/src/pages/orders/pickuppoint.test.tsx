import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import type { Schema } from "../../api/client";
import { changes, onACleanPage, open, service } from "../../testing/service";
import { PickupPoint } from "./pickuppoint";

const counter = { id: "C-7", carrier: "plover", name: "Reed Kiosk", street: "Quay 4", postcode: "41207", town: "Alderby", country: "XW" };
const order = (more: object) => ({ number: "O1", actions: ["point"], record: {}, ours: {}, ...more }) as unknown as Schema<"Order">;

describe("where an order is fetched", () => {
  onACleanPage();

  it("asks the carriers only when a person wants it, says who is silent, and takes a choice", async () => {
    const asked = service({
      "orders/O1/pickup-points": { points: [{ ...counter, distance_m: 350, hours: "to nine" }], silent: ["Ironway"] },
      "PUT orders/O1/pickup-point": {},
    });
    open(<PickupPoint order={order({})} />);
    expect(asked).toHaveLength(0);
    await userEvent.click(screen.getByText("Find points near its address"));
    await waitFor(() => expect(document.body.textContent).toContain("Quay 4, 41207 Alderby; 350 m; to nine"));
    expect(document.body.textContent).toContain("No answer from Ironway.");
    await userEvent.click(screen.getByLabelText("Fetched at Reed Kiosk"));
    await waitFor(() => expect(changes(asked).map((c) => c.body)).toEqual([{ carrier: "plover", id: "C-7" }]));
  });

  it("shows what was chosen before what the channel said, and lets it go to the door", async () => {
    const asked = service({ "PUT orders/O1/pickup-point": {} });
    open(<PickupPoint order={order({ ours: { point: counter }, record: { point: { ...counter, name: "Old Post" } } })} />);
    expect(document.body.textContent).toContain("Reed Kiosk");
    expect(document.body.textContent).not.toContain("Old Post");
    await userEvent.click(screen.getByText("Deliver to the door"));
    await waitFor(() => expect(changes(asked).map((c) => c.body)).toEqual([{ carrier: "", id: "" }]));
  });

  it("offers nothing once it is too late, and says where carriers have no point", async () => {
    service({ "orders/O1/pickup-points": { points: [], silent: [] } });
    const { container } = open(<PickupPoint order={order({ actions: [] })} />);
    expect(container.textContent).toBe("");
    open(<PickupPoint order={order({})} />);
    await userEvent.click(screen.getByText("Find points near its address"));
    await waitFor(() => expect(document.body.textContent).toContain("No carrier has a point near its address."));
  });
});

import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import type { Schema } from "../../api/client";
import { changes, onACleanPage, open, service } from "../../testing/service";
import { Insurance } from "./insurance";

const parcel = (insurance?: object) => ({ number: "P1", state: "packed", insurance }) as unknown as Schema<"ParcelView">;

describe("what a parcel is insured for", () => {
  onACleanPage();

  it("is what rules say until a person types an amount", async () => {
    const asked = service({ "PUT parcels/P1/insurance": {} });
    open(<Insurance s={parcel({ amount: 0, currency: "EUR", by_hand: false })} onDone={() => {}} />);
    expect(document.body.textContent).toContain("Not insured, as rules say");
    expect(screen.queryByText("As rules say")).toBeNull();
    await userEvent.click(screen.getByText("Insure it"));
    await userEvent.type(screen.getByRole("textbox"), "abc");
    expect(screen.getByText("Insure").closest("button")).toHaveProperty("disabled", true);
    await userEvent.clear(screen.getByRole("textbox"));
    await userEvent.type(screen.getByRole("textbox"), "120,50{Enter}");
    await waitFor(() => expect(changes(asked).map((c) => c.body)).toEqual([{ amount: 12050 }]));
  });

  it("goes back to what rules say", async () => {
    const asked = service({ "PUT parcels/P1/insurance": {} });
    open(<Insurance s={parcel({ amount: 12050, currency: "EUR", by_hand: true })} onDone={() => {}} />);
    expect(document.body.textContent).toContain("Insured for 120.50");
    await userEvent.click(screen.getByText("As rules say"));
    await waitFor(() => expect(changes(asked).map((c) => c.body)).toEqual([{ amount: -1 }]));
  });

  it("is not spoken of once there is a label", () => {
    service({});
    const { container } = open(<Insurance s={parcel()} onDone={() => {}} />);
    expect(container.textContent).toBe("");
  });
});

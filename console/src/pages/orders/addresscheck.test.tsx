import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import type { Schema } from "../../api/client";
import { changes, onACleanPage, open, service } from "../../testing/service";
import { AddressCheck } from "./addresscheck";

const to = { name: "Per Lund", street: "Markt Rw 9", postcode: "41207", town: "Alderby", country: "XW" };
const order = (checked: unknown) => ({ number: "O1", ship_to: to, ours: { checked } }) as unknown as Schema<"Order">;

describe("what an address service says", () => {
  onACleanPage();

  it("shows the better form with the difference, and lets a person take it", async () => {
    const asked = service({ "POST orders/O1/address/take": {} });
    open(<AddressCheck order={order({ deliverable: true, kind: "home", remote: true, suggestion: { ...to, street: "Market Row 9" } })} />);
    expect(document.body.textContent).toContain("a home, remote");
    expect(document.body.textContent).toContain("Market Row 9, 41207 Alderby, XW instead of Markt Rw 9");
    await userEvent.click(screen.getByText("Take this form"));
    await waitFor(() => expect(changes(asked)).toHaveLength(1));
  });

  it("says what cannot be delivered to, and nothing where nobody was asked", () => {
    open(<AddressCheck order={order({ deliverable: false, note: "there is no such street" })} />);
    expect(document.body.textContent).toContain("nothing can be delivered there");
    expect(document.body.textContent).toContain("there is no such street");
    const { container } = open(<AddressCheck order={order(undefined)} />);
    expect(container.textContent).toBe("");
  });
});

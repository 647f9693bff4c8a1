import { fireEvent, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import { changes, onACleanPage, open, said, service } from "../../testing/service";
import Bills from "./bills";

const line = {
  id: 7,
  bill: "B-1",
  carrier: "Ann",
  number: "AN1",
  parcel: "S1",
  amount: 596,
  currency: "EUR",
  asked: 447,
  billed: 596,
  weight_g: 2400,
  state: "differs",
  why: "weight: billed by 2.400 kg, sent with 1.900 kg",
  at: "2026-11-23T10:00:00Z",
};

describe("carriers' bills", () => {
  onACleanPage();

  it("shows what differs and why, and takes what a person says of it", async () => {
    const asked = service({ bills: [line, { ...line, id: 6, parcel: "", state: "unknown", why: "no parcel of ours has this number" }] });
    open(<Bills />);
    await said("billed by 2.400 kg");
    expect(document.body.textContent).toContain("1.49");
    await userEvent.click(screen.getAllByText("AN1")[0] as HTMLElement);
    fireEvent.change(await screen.findByLabelText("Note"), { target: { value: "called them" } });
    await userEvent.click(screen.getByText("Dispute it"));
    await waitFor(() => expect(changes(asked)[0]?.body).toEqual({ state: "disputed", note: "called them", parcel: "" }));
    expect(changes(asked)[0]?.path).toBe("bills/7");
  });

  it("says how a bill comes in where there is none", async () => {
    service({ bills: [] });
    open(<Bills />);
    await said("is handed in as CSV");
  });
});

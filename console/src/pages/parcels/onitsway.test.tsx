import { fireEvent, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import type { Schema } from "../../api/client";
import { changes, onACleanPage, open, said, service } from "../../testing/service";
import { OnItsWay } from "./onitsway";

const parcel = {
  number: "S1",
  promised: "2026-11-25",
  currency: "EUR",
  events: [
    { at: "2026-11-23T17:00:00Z", state: "accepted", text: "Lodged", place: "Alderby" },
    { at: "2026-11-24T09:00:00Z", state: "failed", text: "Nobody in" },
  ],
} as unknown as Schema<"ParcelView">;

describe("a parcel on its way", () => {
  onACleanPage();

  it("tells its way from the newest event back, and by when it should be there", () => {
    open(<OnItsWay s={parcel} />);
    const rows = screen.getAllByRole("row").map((r) => r.textContent);
    expect(rows[0]).toContain("failed");
    expect(rows[1]).toContain("Lodged, Alderby");
    expect(document.body.textContent).toContain("Should arrive by");
  });

  it("says so where its carrier said nothing, and lets a claim be noted", async () => {
    const asked = service({ "PUT parcels/S1/claim": {} });
    open(<OnItsWay s={{ ...parcel, events: [], promised: "" }} />);
    await said("said nothing of it yet");
    await userEvent.click(screen.getByText("Note a claim"));
    fireEvent.change(screen.getByLabelText(/^Asked for/), { target: { value: "42.50" } });
    fireEvent.change(screen.getByLabelText(/number of it/), { target: { value: "C-7" } });
    await userEvent.click(screen.getByText("Note the claim"));
    await waitFor(() => expect(changes(asked)[0]?.body).toEqual({ state: "noted", amount: 4250, currency: "EUR", note: "C-7" }));
  });
});

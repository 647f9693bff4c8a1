import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import type { Schema } from "../../api/client";
import { answer, changes, onACleanPage, open, service } from "../../testing/service";
import { ReturnLabel } from "./label";

type View = Schema<"ReturnView">;

const back = (over: Partial<View> = {}): View => ({ ...answer<View>("returns/B10001"), label: undefined, ...over });
const label = (over: object) =>
  ({
    state: "bought",
    carrier: "Plover Post",
    service: "PP",
    tracking: "CP1XW",
    price: 640,
    currency: "EUR",
    weight_g: 900,
    ...over,
  }) as NonNullable<View["label"]>;
const rate = { carrier: "plover", carrier_name: "Plover Post", service: "PP", service_name: "Plover Parcel", price: 640, currency: "EUR" };

describe("the label by which goods come back", () => {
  onACleanPage();

  it("is bought by a service that is chosen by its price", async () => {
    const asked = service({
      "returns/B10001/rates": [
        { ...rate, best: [] },
        { ...rate, service: "PX", service_name: "Express", refused: "not served", best: [] },
      ],
      "POST returns/B10001/label": back({ label: label({}) }),
    });
    open(<ReturnLabel r={back()} open />);
    await userEvent.click(screen.getByText("Buy a label"));
    await waitFor(() => expect(document.body.textContent).toContain("not carried: not served"));
    expect(screen.queryByLabelText("Buy Express")).toBeNull();
    await userEvent.click(screen.getByLabelText("Buy Plover Parcel"));
    await waitFor(() => expect(changes(asked)[0]?.body).toMatchObject({ carrier: "plover", service: "PP", expected: 640 }));
  });

  it("asks for a weight where it is not known what comes", async () => {
    const asked = service({ "returns/B10001/rates": [] });
    const lines = back().lines.map((l) => ({ ...l, announced: 0 }));
    open(<ReturnLabel r={back({ lines })} open />);
    await userEvent.click(screen.getByText("Buy a label"));
    expect(asked.filter((c) => c.path.includes("rates"))).toHaveLength(0);
    await userEvent.type(screen.getByPlaceholderText("needed"), "1,5");
    await waitFor(() => expect(document.body.textContent).toContain("No joined carrier brings goods back"));
  });

  it("is handed out and voided while nobody has the parcel", async () => {
    const asked = service({ "POST returns/B10001/label/void": back({ label: label({ state: "voided" }) }) });
    open(<ReturnLabel r={back({ label: label({}) })} open />);
    expect(screen.getByText("Label as PDF").closest("a")?.getAttribute("href")).toBe("/api/v1/returns/B10001/label.pdf");
    await userEvent.click(screen.getByText("Void it"));
    await waitFor(() => expect(changes(asked)).toHaveLength(1));
  });

  it("is not voided once the carrier has the parcel, and another is bought after a refusal", () => {
    service({});
    const { unmount } = open(<ReturnLabel r={back({ label: label({ journey: "under way" }) })} open />);
    expect(screen.queryByText("Void it")).toBeNull();
    unmount();
    open(<ReturnLabel r={back({ label: label({ state: "refused", error: "too far" }) })} open />);
    expect(document.body.textContent).toContain("too far");
    expect(screen.getByText("Buy another")).toBeTruthy();
  });
});

import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import { changes, onACleanPage, open, said, service } from "../../testing/service";
import { dayAfter, SentFrom } from "./places";

const entry = (place: string, sku: string, units: number, subtotal: number, arrives: number) => ({
  place,
  units: [{ line: 1, sku, units }],
  weight_g: 1500,
  parcels: 1,
  arrives,
  service: "tess/T1",
  terms: [
    { text: "freight by tess/T1, 1.5 kg", cost: subtotal - 90 },
    { text: "1 × a parcel", cost: 90 },
  ],
  subtotal,
});

describe("where an order is sent from", () => {
  onACleanPage();
  const order = { number: "R10001", revision: 3, stage: "ready" } as never;

  it("is said part by part, with what else there was", async () => {
    const asked = service({
      "orders/R10001/plan": {
        planned: true,
        currency: "EUR",
        day: "2026-11-30",
        by: 2,
        plan: {
          entries: [entry("alder", "JAR", 2, 990, 2), entry("pier", "LID", 1, 490, 4)],
          cost: 1480,
          waits: [{ line: 3, sku: "BOX", units: 1 }],
        },
        runners: [{ without: "pier", entries: [entry("alder", "JAR", 2, 990, 2)], cost: 990, waits: [{ line: 2, sku: "LID", units: 1 }] }],
        bars: [{ place: "pier", why: "JAR: 0 of 2 are free" }],
      },
      locations: [
        { id: 1, code: "alder", name: "Alder Yard" },
        { id: 2, code: "pier", name: "Pier Nine" },
      ],
      "POST orders/R10001/replan": { changed: false },
    });
    open(<SentFrom order={order} />);
    await said("2 × JAR");
    await said("2026-12-02");
    await said("2026-12-04 late");
    await said("No place that may send it has it free");
    await said("14.80");
    await userEvent.click(screen.getByText("What else there was"));
    await said("Without Pier Nine: Alder Yard sends 2 × JAR; 1 × LID would wait");
    await said("Not from Pier Nine: JAR: 0 of 2 are free");
    await userEvent.click(await screen.findByText("Plan anew"));
    await said("It is planned so already");
    await waitFor(() => expect(changes(asked)).toHaveLength(1));
  });

  it("says nothing where there was no choice", async () => {
    const asked = service({ "orders/R10001/plan": { planned: false, plan: { entries: [], cost: 0 }, runners: [], bars: [], by: -1 } });
    open(<SentFrom order={order} />);
    await waitFor(() => expect(asked.some((a) => a.path.endsWith("/plan"))).toBe(true));
    expect(screen.queryByText("Where it is sent from")).toBeNull();
  });

  it("counts days over the end of a month", () => {
    expect(dayAfter("2026-11-30", 2)).toBe("2026-12-02");
    expect(dayAfter("2028-02-28", 1)).toBe("2028-02-29");
  });
});

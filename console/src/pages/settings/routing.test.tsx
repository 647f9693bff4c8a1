import { fireEvent, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import { onACleanPage, open, refused, said, service, type Asked } from "../../testing/service";
import Routing from "./routing";

const plan = (place: string, cost: number) => ({
  entries: [{ place, units: [{ line: 1, sku: "JAR", units: 2 }], weight_g: 500, parcels: 1, arrives: 2, terms: [], subtotal: cost }],
  cost,
});

describe("routing", () => {
  onACleanPage();

  it("is weighed in money, rehearsed as typed, and kept", async () => {
    let policy: Record<string, unknown> = { on: true, parcel: 90, places: { pier: { order: 60 } } };
    let tried: unknown;
    service({
      routing: () => ({ policy, currency: "EUR" }),
      locations: [
        { id: 1, code: "alder", name: "Alder Yard" },
        { id: 2, code: "pier", name: "Pier Nine" },
      ],
      "PUT routing": (a: Asked) => ({ policy: (policy = a.body as typeof policy), currency: "EUR" }),
      "POST routing/rehearse": (a: Asked) => {
        tried = a.body;
        return {
          orders: 12,
          promised: 4,
          was: { cost: 9000, late: 1, split: 2, waits: 0, later: 0, places: { alder: 12 } },
          now: { cost: 8000, late: 0, split: 3, waits: 0, later: 0, places: { alder: 8, pier: 4 } },
          changed: 101,
          list: [{ order: "R10001", was: plan("alder", 900), now: plan("pier", 800) }],
          currency: "EUR",
        };
      },
    });
    open(<Routing />);
    const parcel = await screen.findByLabelText("A parcel, EUR", { selector: "input" });
    expect(parcel).toHaveProperty("value", "0.90");
    expect(screen.getByText("Keep")).toHaveProperty("disabled", true);
    fireEvent.change(parcel, { target: { value: "1,2" } });
    fireEvent.change(screen.getByLabelText("An order at Pier Nine"), { target: { value: "0.4" } });
    fireEvent.change(screen.getByLabelText("Alder Yard keeps"), { target: { value: "3" } });
    fireEvent.change(screen.getByLabelText("Pier Nine does not send"), { target: { value: "live, abroad," } });
    await userEvent.click(screen.getByText("Rehearse what is typed"));
    await said("101 orders would be sent otherwise");
    const typed = { on: true, parcel: 120, places: { pier: { order: 40, cannot: ["live", "abroad"] }, alder: { keep: 3 } } };
    expect(tried).toMatchObject(typed);
    await said("pier: 2 × JAR");
    await said("and 100 more, of which less is saved or lost");
    await said("Late, of 4 with a promised day");
    await userEvent.click(screen.getByText("Keep"));
    await waitFor(() => expect(policy).toMatchObject(typed));
    await waitFor(() => expect(screen.getByText("Keep")).toHaveProperty("disabled", true));
  });

  it("is left as it was, refused with a reason, and planned anew by it", async () => {
    let asked: unknown;
    service({
      routing: { policy: {}, currency: "EUR" },
      locations: [{ id: 1, code: "alder", name: "Alder Yard" }],
      "PUT routing": refused(422, "parcel: what a parcel costs is not said"),
      "POST routing/rehearse": {
        orders: 0,
        promised: 0,
        was: { cost: 0, late: 0, split: 0, waits: 0, later: 0, places: {} },
        now: { cost: 0, late: 0, split: 0, waits: 0, later: 0, places: {} },
        changed: 0,
        list: [],
        currency: "EUR",
      },
      "POST routing/replan": (a: Asked) => {
        asked = a.body;
        return { job: 7 };
      },
    });
    open(<Routing />);
    await userEvent.click(await screen.findByLabelText("Take what costs least"));
    await userEvent.click(screen.getByText("Keep"));
    await said("what a parcel costs is not said");
    await userEvent.click(screen.getByText("Leave it as it was"));
    await said("The first place of the channel's list that has all is taken");
    await userEvent.click(screen.getByText("Rehearse"));
    await said("No order has been planned yet");
    fireEvent.change(screen.getByLabelText("Of which place"), { target: { value: "alder" } });
    fireEvent.change(screen.getByLabelText("Why"), { target: { value: "closed" } });
    await userEvent.click(screen.getByText("Plan these anew"));
    await said("Under way");
    expect(asked).toEqual({ place: "alder", reason: "closed" });
  });

  it("has exceptions that rules choose, with what is left empty as in the policy", async () => {
    let kept: Record<string, unknown> = {};
    service({
      routing: {
        policy: { on: true, parcel: 90, exceptions: { gifts: { not: ["alder"], places: { pier: { order: 5 } } } } },
        currency: "EUR",
      },
      locations: [],
      "PUT routing": (a: Asked) => ({ policy: (kept = a.body as typeof kept), currency: "EUR" }),
    });
    open(<Routing />);
    await said("other terms at pier");
    const user = userEvent.setup();
    await user.type(screen.getByLabelText("Name of an exception"), "express{Enter}");
    await user.type(screen.getByLabelText("A day sooner, express"), "2.50");
    await user.type(screen.getByLabelText("Places, express"), "1");
    await user.type(screen.getByLabelText("Days to wait, express"), "0");
    await user.click(screen.getByLabelText("Urgent, express"));
    await user.type(screen.getByLabelText("Not from, gifts"), ", pier");
    fireEvent.change(screen.getByLabelText("Kept for urgent orders, %"), { target: { value: "20" } });
    fireEvent.change(screen.getByLabelText("Urgent are those promised"), { target: { value: "2" } });
    fireEvent.change(screen.getByLabelText("100 km, EUR"), { target: { value: "0.3" } });
    await user.click(screen.getByText("Keep"));
    await waitFor(() =>
      expect(kept).toMatchObject({
        km_100: 30,
        urgent: { days: 2, share: 20 },
        exceptions: { express: { day: 250, most_places: 1, most_wait: 0, urgent: true }, gifts: { not: ["alder", "pier"] } },
      }),
    );
    await user.click(await screen.findByLabelText("Take out: gifts"));
    await user.click(screen.getByText("Leave it as it was"));
    expect(await screen.findByText("gifts")).toBeTruthy();
  });
});

import { fireEvent, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import { changes, onACleanPage, open, said, service, type Asked } from "../../testing/service";
import Freight from "./freight";

describe("freight rules", () => {
  onACleanPage();

  it("are read, put in order, added and rehearsed", async () => {
    let rows: { name: string; do: string }[] = [
      { name: "Handling", do: "mark up", permille: 75 } as never,
      { name: "Large", do: "waive", when: "units >= 3" } as never,
    ];
    const asked = service({
      "freight-rules": () => ({ rows }),
      "PUT freight-rules": (a: Asked) => ({ rows: (rows = (a.body as { rows: typeof rows }).rows) }),
      "POST freight-rules/rehearse": {
        parcels: 2,
        changed: [{ parcel: "S1", order_number: "O1", service: "Slow", asked: 400, was: 400, would: 430, currency: "EUR", by: "Handling" }],
        sums: [{ currency: "EUR", asked: 800, was: 800, would: 860 }],
      },
    });
    open(<Freight />);
    await said("plus 7.5 %");
    await userEvent.click(screen.getByRole("button", { name: "Large up" }));
    await waitFor(() => expect(rows[0]?.name).toBe("Large"));
    await userEvent.click(screen.getByText("Rehearse the rules"));
    await said("would be 8.60");
    await userEvent.click(screen.getByText("Add a rule"));
    fireEvent.change(await screen.findByLabelText("Name"), { target: { value: "Flat" } });
    fireEvent.change(screen.getByLabelText("What is charged"), { target: { value: "fix" } });
    fireEvent.change(await screen.findByLabelText(/^Amount/), { target: { value: "4,90" } });
    fireEvent.change(screen.getByLabelText("Currency"), { target: { value: "eur" } });
    await userEvent.click(screen.getByText("Save"));
    await waitFor(() => expect(rows).toHaveLength(3));
    expect(rows[2]).toMatchObject({ name: "Flat", do: "fix", amount: 490, currency: "EUR" });
    expect(changes(asked).length).toBeGreaterThan(2);
  });

  it("say when as a sentence, and as text beside it", async () => {
    let rows: { name: string; do: string; when?: string }[] = [{ name: "Large", do: "waive", when: "units >= 3" }];
    const asked = service({
      "freight-rules": () => ({ rows }),
      "PUT freight-rules": (a: Asked) => ({ rows: (rows = (a.body as { rows: typeof rows }).rows) }),
      "POST rules/read": (a: Asked) => {
        const body = a.body as { when?: string; sentence?: object };
        if (body.sentence) return { when: 'country == "XE"', then: "", sentence: body.sentence, actions: [] };
        if (body.when?.includes("size(")) return { when: body.when, then: "", actions: [] };
        const sentence = { any: false, conditions: [{ field: "units", is: "at least", values: ["3"] }] };
        return { when: body.when, then: "", sentence, actions: [] };
      },
    });
    open(<Freight />);
    await said("is at least 3");
    await userEvent.click(screen.getByText("Add a rule"));
    await userEvent.click(await screen.findByText("Add a condition"));
    fireEvent.change(screen.getByLabelText("Value"), { target: { value: "XE" } });
    await waitFor(() => expect(screen.getByLabelText(/^The same as text/)).toHaveProperty("value", 'country == "XE"'));
    fireEvent.change(screen.getByLabelText(/^The same as text/), { target: { value: "size(skus) > 2" } });
    await said("says more than a sentence can");
    fireEvent.change(screen.getByLabelText("Name"), { target: { value: "Many" } });
    fireEvent.change(screen.getByLabelText("What is charged"), { target: { value: "waive" } });
    await userEvent.click(screen.getByText("Save"));
    await waitFor(() => expect(rows[1]).toMatchObject({ name: "Many", when: "size(skus) > 2" }));
    expect(asked.some((a) => a.path === "rules/read")).toBe(true);
  });
});

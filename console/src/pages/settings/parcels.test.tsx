import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import { answer, as, changes, onACleanPage, open, refused, said, service } from "../../testing/service";
import Parcels from "./parcels";

const crate = { code: "crate", name: "Crate", length_mm: 600, width_mm: 400, height_mm: 300, tare_g: 900, max_g: 20000 };
const order = { code: "order", prefix: "R", next: 10040 };
const show = (say = {}) => {
  const asked = service({ me: answer("me"), "kept-profiles": [crate], series: [order], ...say });
  open(<Parcels />);
  return asked;
};

describe("parcels and numbers", () => {
  onACleanPage();

  it("are for leads", async () => {
    show({ me: as("clerk") });
    await said("for those with the role lead");
  });

  it("begin with a carton, whose code follows from its name", async () => {
    const asked = show({ "kept-profiles": [], "PUT profiles/flat-box": [{ ...crate, code: "flat-box", name: "Flat box" }] });
    await userEvent.click(await screen.findByRole("button", { name: "Add the first" }));
    const form = within(await screen.findByRole("dialog"));
    await userEvent.type(form.getByLabelText("Name"), "Flat box");
    for (const [label, value] of [
      ["Length, mm", "300"],
      ["Width, mm", "200"],
      ["Height, mm", "40"],
      ["Holds at most, g", "2000"],
      ["Weight of carton and filling, g", "80"],
    ] as const)
      await userEvent.type(form.getByLabelText(label), value);
    await userEvent.click(form.getByRole("button", { name: "Add" }));
    await said("flat-box");
    expect(changes(asked)[0]?.body).toEqual({ name: "Flat box", length_mm: 300, width_mm: 200, height_mm: 40, max_g: 2000, tare_g: 80 });
  });

  it("are changed, and say what is wrong", async () => {
    show({ "PUT profiles/crate": refused(422, "max_g: from 1 to 2000000 grams") });
    await userEvent.click(await screen.findByRole("button", { name: "Change Crate" }));
    const form = within(await screen.findByRole("dialog"));
    expect(form.getByLabelText<HTMLInputElement>(/^Code/).disabled).toBe(true);
    await userEvent.click(form.getByRole("button", { name: "Keep the change" }));
    await said("max_g: from 1");
  });

  it("are used no more, and again", async () => {
    const asked = show({ "POST profiles/crate/archive": [{ ...crate, archived_at: "2026-11-28T08:00:00Z" }] });
    await userEvent.click(await screen.findByRole("button", { name: "Use no more: Crate" }));
    await said("used no more since");
    await userEvent.click(screen.getByRole("button", { name: "Use again: Crate" }));
    await waitFor(() => expect(changes(asked).map((a) => a.body)).toEqual([{ archived: true }, { archived: false }]));
  });

  it("go on from another number, once it is kept", async () => {
    const asked = show({ "PUT series/order": [{ ...order, prefix: "MH-", next: 501 }] });
    const prefix = await screen.findByLabelText("Prefix of order");
    expect(screen.queryByRole("button", { name: "Keep the change" })).toBeNull();
    await userEvent.clear(prefix);
    await userEvent.type(prefix, "MH-");
    await userEvent.click(screen.getByRole("button", { name: "Keep the change" }));
    await waitFor(() => expect(changes(asked)[0]?.body).toEqual({ prefix: "MH-", next: 10040 }));
  });

  it("say that a number was given already", async () => {
    show({ "PUT series/order": refused(409, "next: R10039 was given already; 10040 is the least") });
    const next = await screen.findByLabelText("Next of order");
    await userEvent.clear(next);
    await userEvent.type(next, "3");
    await userEvent.click(screen.getByRole("button", { name: "Keep the change" }));
    await said("10040 is the least");
  });
});

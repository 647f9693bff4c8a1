import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import { answer, as, changes, onACleanPage, open, refused, said, service } from "../../testing/service";
import { daysOffOf, daysOffText } from "./hours";
import Places from "./places";
import Senders from "./senders";

const skep = { code: "skep", name: "Little Skep", company: "", phone: "", email: "" };
const barge = { code: "barge", name: "Barge and Sons", tracking_url: "https://barge.example/{number}" };
const show = (say = {}) => {
  const asked = service({ me: answer("me"), senders: [skep], "named-carriers": [barge], ...say });
  open(<Senders />);
  return asked;
};

describe("senders and carriers", () => {
  onACleanPage();

  it("are for leads", async () => {
    show({ me: as("clerk") });
    await said("for those with the role lead");
  });

  it("warn of a name that a carrier refuses", async () => {
    show({ senders: [{ ...skep, warnings: ["Plover Post wants 2 words in a name; “Skep” has 1"] }] });
    await said("Plover Post wants 2 words");
  });

  it("are added, with a code that follows from the name", async () => {
    const asked = show({ senders: [], "PUT senders/little-skep": [{ ...skep, code: "little-skep" }] });
    await said("No sender yet");
    await userEvent.click(screen.getByRole("button", { name: "Add a sender" }));
    const form = within(await screen.findByRole("dialog"));
    await userEvent.type(form.getByLabelText("Name"), "Little Skep");
    await userEvent.click(form.getByRole("button", { name: "Add the sender" }));
    await said("little-skep");
    expect(changes(asked)[0]?.body).toEqual({ name: "Little Skep", company: "", phone: "", email: "" });
  });

  it("say why one is still needed", async () => {
    show({ "POST senders/skep/archive": refused(409, "Little Skep web store ships as skep; change that first") });
    await userEvent.click(await screen.findByRole("button", { name: "Use no more: Little Skep" }));
    await said("change that first");
  });

  it("name carriers, change them, and use them no more and again", async () => {
    const asked = show({
      "PUT named-carriers/barge": [{ ...barge, name: "Barge" }],
      "POST named-carriers/barge/archive": [{ ...barge, archived_at: "2026-11-28T08:00:00Z" }],
    });
    await userEvent.click(await screen.findByRole("button", { name: "Change Barge and Sons" }));
    const form = within(await screen.findByRole("dialog"));
    await userEvent.clear(form.getByLabelText("Name"));
    await userEvent.type(form.getByLabelText("Name"), "Barge");
    await userEvent.click(form.getByRole("button", { name: "Keep the change" }));
    await userEvent.click(await screen.findByRole("button", { name: "Use no more: Barge" }));
    await said("used no more since");
    expect(changes(asked).map((a) => a.body)).toEqual([{ name: "Barge", tracking_url: barge.tracking_url }, { archived: true }]);
  });
});

describe("hours of a place", () => {
  onACleanPage();

  it.each([
    ["2026-12-24", [{ from: "2026-12-24", why: "" }]],
    ["2026-12-24 Midwinter fair", [{ from: "2026-12-24", why: "Midwinter fair" }]],
    [
      "2026-12-24 2026-12-26 Midwinter\n\n 2027-01-01 ",
      [
        { from: "2026-12-24", to: "2026-12-26", why: "Midwinter" },
        { from: "2027-01-01", why: "" },
      ],
    ],
    ["", []],
    ["soon", [{ from: "soon", why: "" }]],
  ])("%s is read as days off", (text, list) => {
    expect(daysOffOf(text)).toEqual(list);
  });

  it("are written as they are read", () => {
    expect(
      daysOffText([
        { from: "2026-12-24", to: "2026-12-26", why: "Midwinter" },
        { from: "2027-01-01", to: "2027-01-01" },
      ]),
    ).toBe("2026-12-24 2026-12-26 Midwinter\n2027-01-01");
  });

  it("are typed day by day, with bins by pattern, and the address service is asked", async () => {
    const place = {
      id: 1,
      code: "alder",
      name: "Alder Yard",
      address: { name: "", street: "Alder Yard 3", postcode: "41207", town: "Alderbi", country: "XW" },
    };
    const asked = service({
      me: answer("me"),
      locations: [place],
      company: { name: "Morrow", time_zone: "" },
      connections: [{ ...answer<object[]>("connections")[0], code: "postbook", side: "address service", state: "on" }],
      "POST address-check": { deliverable: true, note: "Town corrected", corrected: { ...place.address, town: "Alderby" } },
      "PUT locations/alder": place,
    });
    open(<Places />);
    await userEvent.click(await screen.findByRole("button", { name: "Change Alder Yard" }));
    const form = within(await screen.findByRole("dialog"));
    await userEvent.click(await form.findByRole("button", { name: "Ask the address service" }));
    await userEvent.click(await form.findByRole("button", { name: /Take .*Alderby/ }));
    await userEvent.click(form.getByLabelText(/It has hours/));
    await userEvent.type(form.getByLabelText(/^Days off/), "2026-12-24 Midwinter");
    await userEvent.type(form.getByLabelText(/^Bins/), "A-[[1-3]");
    await userEvent.click(form.getByRole("button", { name: "Keep the change" }));
    await waitFor(() => expect(changes(asked).some((a) => a.method === "PUT")).toBe(true));
    expect(changes(asked).find((a) => a.method === "PUT")?.body).toMatchObject({
      address: { town: "Alderby" },
      hours: { cutoff: "14:00", days_off: [{ from: "2026-12-24", why: "Midwinter" }] },
      bins: "A-[1-3]",
    });
  });
});

import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import type { Schema } from "../../api/client";
import { as, answer, changes, onACleanPage, open, refused, said, service } from "../../testing/service";
import People from "./people";
import { codeOf } from "../../shared/company/named";
import Places from "./places";

onACleanPage();

const user = (id: number, name: string, more: Partial<Schema<"User">> = {}): Schema<"User"> => ({
  id,
  name,
  email: `${name.toLowerCase()}@morrow.example`,
  role: "clerk",
  ...more,
});
const session = (id: number, more = {}) => ({
  id,
  began_at: "2026-11-28T08:00:00Z",
  used_at: "2026-11-28T09:00:00Z",
  source: "10.0.0.7",
  agent: "Mozilla/5.0 (X11; Linux x86_64) Moth/12.1",
  here: false,
  ...more,
});
const everybody = [user(1, "Edda", { role: "lead" }), user(2, "Pim"), user(3, "Joss", { left_at: "2026-11-20T08:00:00Z" })];
const signedIn = { ...answer<Record<string, unknown>>("me"), id: 1, name: "Edda", email: "edda@morrow.example" };

const show = (say: Record<string, unknown> = {}) => {
  const asked = service({
    me: signedIn,
    people: everybody,
    tokens: [],
    "me/second-factor": { on: false, left: 0, demanded: false },
    "me/sessions": [session(1, { here: true })],
    ...say,
  });
  open(<People />, "/settings/people");
  return asked;
};

describe("people", () => {
  it("are added with a role and a password", async () => {
    const asked = show({ "POST people": [...everybody, user(4, "Ilka")] });
    await userEvent.click(await screen.findByRole("button", { name: "Add a person" }));
    const form = await screen.findByRole("dialog");
    await userEvent.type(within(form).getByLabelText("Name"), "Ilka");
    await userEvent.type(within(form).getByLabelText("E-mail"), "ilka@morrow.example");
    await userEvent.click(within(form).getByRole("radio", { name: /viewer/ }));
    await userEvent.type(within(form).getByLabelText(/^Password/), "beekeeper");
    await userEvent.click(within(form).getByRole("button", { name: "Add" }));
    await said("ilka@morrow.example");
    expect(changes(asked)[0]?.body).toEqual({ name: "Ilka", email: "ilka@morrow.example", role: "viewer", password: "beekeeper" });
    await waitFor(() => expect(screen.queryByRole("dialog")).toBeNull());
  });

  it("are changed, and a password that is not typed stays", async () => {
    const asked = show({ "PATCH people/2": everybody });
    await userEvent.click(await screen.findByRole("button", { name: "Change Pim" }));
    const form = await screen.findByRole("dialog");
    await userEvent.click(within(form).getByRole("radio", { name: /^lead/ }));
    await userEvent.click(within(form).getByRole("button", { name: "Keep the change" }));
    await waitFor(() => expect(changes(asked)).toHaveLength(1));
    expect(changes(asked)[0]?.body).toEqual({ name: "Pim", email: "pim@morrow.example", role: "lead" });
  });

  it("leave and come back", async () => {
    const asked = show({ "POST people/2/leave": everybody, "POST people/3/leave": everybody });
    await userEvent.click(await screen.findByRole("button", { name: "Leaves: Pim" }));
    await userEvent.click(screen.getByRole("button", { name: "Comes back: Joss" }));
    await waitFor(() => expect(changes(asked).map((a) => a.body)).toEqual([{ left: true }, { left: false }]));
    expect(screen.queryByRole("button", { name: "Change Joss" })).toBeNull();
  });

  it("say why the last who leads cannot leave", async () => {
    show({ "POST people/1/leave": refused(409, "Edda is the last with the role lead; give it to somebody else first") });
    await userEvent.click(await screen.findByRole("button", { name: "Leaves: Edda" }));
    await said("Edda is the last with the role lead");
  });

  it("have their sessions ended, one or all", async () => {
    const asked = show({
      "people/2/sessions": [session(7), session(8, { source: "10.0.0.8" })],
      "DELETE people/2/sessions/8": [session(7)],
      "POST people/2/end-sessions": everybody,
    });
    await userEvent.click(await screen.findByRole("button", { name: "Sessions of Pim" }));
    await userEvent.click(await screen.findByRole("button", { name: "End the session from 10.0.0.8" }));
    await waitFor(() => expect(screen.queryByText("10.0.0.8")).toBeNull());
    await userEvent.click(screen.getByRole("button", { name: "End all of them" }));
    await said("Pim is signed in nowhere");
    expect(changes(asked).map((a) => a.path)).toEqual(["people/2/sessions/8", "people/2/end-sessions"]);
  });

  it("who lost their second factor are helped", async () => {
    const asked = show({
      people: [user(2, "Pim", { factor_at: "2026-11-20T08:00:00Z" })],
      "people/2/sessions": [],
      "POST people/2/reset-second-factor": [user(2, "Pim")],
    });
    await userEvent.click(await screen.findByRole("button", { name: "Sessions of Pim" }));
    await userEvent.click(await screen.findByRole("button", { name: "Take the second factor away" }));
    await waitFor(() => expect(screen.queryByRole("button", { name: "Take the second factor away" })).toBeNull());
    expect(changes(asked)).toHaveLength(1);
  });

  it("who do not lead see nobody, and where their own password is", async () => {
    const asked = show({ me: { ...as("clerk"), id: 1, email: "edda@morrow.example" } });
    expect((await screen.findByRole("link", { name: "You" })).getAttribute("href")).toBe("/you");
    expect(screen.queryByRole("region", { name: "Everybody" })).toBeNull();
    expect(asked.some((a) => a.path === "people" || a.path === "tokens")).toBe(false);
  });
});

describe("tokens", () => {
  it("are told once, and end after a year unless something else is said", async () => {
    const asked = show({ "POST tokens": { id: 5, token: "relay_once" } });
    await userEvent.type(await screen.findByLabelText("What it is for"), "label printer{Enter}");
    await said("relay_once");
    const body = changes(asked)[0]?.body as { name: string; role: string; ends: string };
    expect([body.name, body.role]).toEqual(["label printer", "clerk"]);
    expect(Math.round((new Date(body.ends).getTime() - Date.now()) / 86_400_000)).toBe(365);
    await userEvent.click(screen.getByRole("button", { name: "I have it" }));
    expect(document.body.textContent).not.toContain("relay_once");
  });

  it("are revoked", async () => {
    const token = { id: 5, name: "scale", role: "viewer", made_at: "2026-11-20T08:00:00Z", made_by: "Edda" };
    const asked = show({ tokens: [token, { ...token, id: 4, name: "old", revoked_at: "2026-11-21T08:00:00Z" }] });
    await userEvent.click(await screen.findByRole("button", { name: "Revoke scale" }));
    await waitFor(() => expect(changes(asked)[0]).toMatchObject({ method: "DELETE", path: "tokens/5" }));
    expect(screen.queryByRole("button", { name: "Revoke old" })).toBeNull();
  });
});

describe("places", () => {
  it.each([
    ["Alder Yard", "alder-yard"],
    ["  Pier 9 / Süd ", "pier-9-su-d"],
    ["***", ""],
  ])("%s has a code made of it: %s", (name, code) => {
    expect(codeOf(name)).toBe(code);
  });

  it("are added with their address, in the company's country", async () => {
    const asked = service({
      locations: [],
      company: { name: "Morrow", time_zone: "", country: "XW", currency: "EUR" },
      "PUT locations/alder-yard": answer<object[]>("locations")[0]!,
    });
    open(<Places />, "/settings/places");
    await said("No place yet.");
    await userEvent.click(screen.getByRole("button", { name: "Add a place" }));
    const form = await screen.findByRole("dialog");
    await userEvent.type(within(form).getByLabelText("Name"), "Alder Yard");
    await userEvent.type(within(form).getByLabelText("Street and number"), "Alder Yard 3");
    await userEvent.click(within(form).getByRole("button", { name: "Add the place" }));
    await waitFor(() => expect(changes(asked)).toHaveLength(1));
    expect(changes(asked)[0]).toMatchObject({
      path: "locations/alder-yard",
      body: { name: "Alder Yard", address: { street: "Alder Yard 3", country: "XW" } },
    });
  });

  it("keep the form when an address is refused, and no address is sent where none is typed", async () => {
    const asked = service({
      locations: [{ id: 1, code: "pier", name: "Pier Nine" }],
      "PUT locations/pier": refused(422, "address: postcode is missing"),
    });
    open(<Places />, "/settings/places");
    await userEvent.click(await screen.findByRole("button", { name: "Change Pier Nine" }));
    const form = await screen.findByRole("dialog");
    expect(within(form).getByLabelText<HTMLInputElement>(/^Code/).disabled).toBe(true);
    await userEvent.click(within(form).getByRole("button", { name: "Keep the change" }));
    await said("address: postcode is missing");
    expect(changes(asked)[0]?.body).toEqual({ name: "Pier Nine" });
  });

  it("are looked at, not changed, by others", async () => {
    service({ me: { ...as("clerk"), id: 1, email: "edda@morrow.example" } });
    open(<Places />, "/settings/places");
    await said("Alder Yard");
    expect(screen.queryByRole("button", { name: /Change|Add/ })).toBeNull();
  });
});

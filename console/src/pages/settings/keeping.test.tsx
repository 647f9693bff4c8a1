import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import { answer, as, changes, onACleanPage, open, refused, said, service } from "../../testing/service";
import Keeping from "./keeping";

const schedule = { on: false, at: "02:30", keep: 14 };
const backup = (id: number, more = {}) => ({
  id,
  name: `morrow-${id}.backup`,
  began_at: "2026-11-28T02:30:00Z",
  ended_at: "2026-11-28T02:30:04Z",
  bytes: 12_400_000,
  who: "relay",
  ...more,
});
const all = (more = {}) => ({ folder: true, passphrase: true, schedule, list: [], ...more });

describe("keeping", () => {
  onACleanPage();

  it("is for leads", async () => {
    service({ me: as("clerk") });
    open(<Keeping />);
    await said("for those with the role lead");
  });

  it("says how to have backups where there is no folder", async () => {
    service({ me: answer("me"), backups: all({ folder: false }) });
    open(<Keeping />);
    await said("-backups FOLDER");
    expect(screen.queryByRole("button", { name: "Make one now" })).toBeNull();
  });

  it("is set to each day, with a passphrase", async () => {
    const asked = service({
      me: answer("me"),
      backups: all({ passphrase: false }),
      "PUT backups": all({ schedule: { ...schedule, on: true, keep: 30 } }),
    });
    open(<Keeping />);
    await userEvent.click(await screen.findByRole("button", { name: "Make them daily" }));
    const form = within(await screen.findByRole("dialog"));
    await userEvent.clear(form.getByLabelText(/How many/));
    await userEvent.type(form.getByLabelText(/How many/), "30");
    await userEvent.type(form.getByLabelText(/Passphrase/), "heather and lime");
    await userEvent.click(form.getByRole("button", { name: "Keep it so" }));
    await said("each day at 02:30; 30 are kept");
    expect(changes(asked)[0]?.body).toEqual({ on: true, at: "02:30", keep: 30, passphrase: "heather and lime" });
  });

  it.each([
    ["one that failed", [backup(2, { error: "no space left on device" }), backup(1)], "the last one failed"],
    ["one that was removed", [backup(2), backup(1, { gone_at: "2026-11-29T02:30:00Z" })], "removed, newer ones are there"],
    ["one that is there", [backup(2)], "12.4 MB"],
  ])("lists %s", async (_, list, text) => {
    service({ me: answer("me"), backups: all({ schedule: { ...schedule, on: true }, list }) });
    open(<Keeping />);
    await said(text);
  });

  it("shows how far one is", async () => {
    const asked = service({ me: answer("me"), backups: all(), "POST backups": all({ underway: { done: 30, total: 120 } }) });
    open(<Keeping />);
    await userEvent.click(await screen.findByRole("button", { name: "Make one now" }));
    await said("being made, 25 %");
    expect(changes(asked)).toHaveLength(1);
  });

  it("stops making them, and says why it cannot", async () => {
    service({ me: answer("me"), backups: all({ schedule: { ...schedule, on: true } }), "PUT backups": refused(422, "keep: not today") });
    open(<Keeping />);
    await userEvent.click(await screen.findByRole("button", { name: "Make none by itself" }));
    await said("keep: not today");
  });

  it("takes a new key once it was asked", async () => {
    const asked = service({ me: answer("me"), backups: all(), "POST keys/rotate": { secrets: 7, key: 3 } });
    open(<Keeping />);
    await userEvent.click(await screen.findByRole("button", { name: "Take a new key" }));
    expect(changes(asked)).toHaveLength(0);
    await userEvent.click(await screen.findByRole("button", { name: "Seal everything anew" }));
    await said("7 secrets are sealed with key 3 now");
    await waitFor(() => expect(screen.queryByRole("dialog")).toBeNull());
  });
});

import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import { as, answer, changes, onACleanPage, open, said, service } from "../../testing/service";
import { FirstDay } from "./firstday";

onACleanPage();

const signedIn = answer<Record<string, unknown>>("me");

describe("the first day", () => {
  const step = (code: string, done = false, left = false) => ({ code, done, left });
  const day = (over: boolean, ...done: boolean[]) => ({
    over,
    dismissed: false,
    steps: ["place", "items", "channel", "carrier", "order"].map((code, i) => step(code, done[i])),
  });

  it("shows what is next, and leaves a step out", async () => {
    const left = {
      ...day(false, true),
      steps: [step("place", true), step("items", false, true), step("channel"), step("carrier"), step("order")],
    };
    const asked = service({ me: signedIn, "first-day": day(false, true), "PUT first-day": left });
    open(<FirstDay />);
    await said("1 of 5 steps");
    expect(document.querySelector("[aria-current=step]")?.textContent).toContain("Items");
    await userEvent.click(screen.getByRole("button", { name: "Leave it out: Items" }));
    await said("2 of 5 steps");
    expect(document.querySelector("[aria-current=step]")?.textContent).toContain("A channel");
    expect(changes(asked)[0]?.body).toEqual({ step: "items", left: true });
    expect(screen.getByRole("button", { name: "Take it up: Items" })).toBeTruthy();
  });

  it("is dismissed", async () => {
    const asked = service({ me: signedIn, "first-day": day(false), "PUT first-day": { ...day(true), dismissed: true } });
    open(<FirstDay />);
    await userEvent.click(await screen.findByRole("button", { name: /dismiss this/ }));
    await waitFor(() => expect(screen.queryByRole("region", { name: "The first day" })).toBeNull());
    expect(changes(asked)[0]?.body).toEqual({ left: true });
  });

  it.each([
    ["it is over", { "first-day": day(true, true, true, true, true, true), me: signedIn }],
    ["somebody else looks", { "first-day": day(false), me: as("clerk") }],
  ])("is not there when %s", async (_, say) => {
    const asked = service(say);
    open(<FirstDay />);
    await waitFor(() => expect(asked.length).toBe(2));
    expect(screen.queryByRole("region", { name: "The first day" })).toBeNull();
  });
});

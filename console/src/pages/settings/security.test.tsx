import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import { answer, as, changes, onACleanPage, open, said, service } from "../../testing/service";
import { browserOf } from "../../shared/people/sessions";
import Security from "./security";

describe("security", () => {
  onACleanPage();
  const event = (id: number, kind: string, more = {}) => ({ id, at: "2026-11-28T08:00:00Z", kind, who: "Edda", ...more });

  it("is for leads", async () => {
    service({ me: as("clerk") });
    open(<Security />);
    await said("for those with the role lead");
  });

  it("lists what happened, and demands a second factor", async () => {
    const asked = service({
      me: answer("me"),
      "sign-in-terms": { of: "nobody" },
      "PUT sign-in-terms": { of: "everybody" },
      "security-events": [event(2, "refused", { source: "10.0.0.9", text: "wrong password" }), event(1, "signed in")],
    });
    open(<Security />);
    await said("wrong password");
    await userEvent.selectOptions(await screen.findByLabelText(/A second factor is demanded/), "everybody");
    await waitFor(() => expect(changes(asked)[0]?.body).toEqual({ of: "everybody" }));
  });

  it("says that nothing happened yet", async () => {
    service({ me: answer("me"), "sign-in-terms": { of: "nobody" }, "security-events": [] });
    open(<Security />);
    await said("Nobody has signed in yet");
  });

  it.each([
    ["Mozilla/5.0 (X11; Linux x86_64) Moth/12.1", "Moth, X11"],
    ["script/1", "script/1"],
    ["", "unknown"],
  ])("names a browser that says %j", (agent, name) => {
    expect(browserOf(agent)).toBe(name);
  });
});

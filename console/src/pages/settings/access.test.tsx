import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import { answer, as, changes, onACleanPage, open, refused, said, service } from "../../testing/service";
import { SecondFactor } from "./factor";
import FactorFirst from "./factorfirst";
import Security from "./security";
import { browserOf } from "./sessions";

const off = { on: false, left: 0, demanded: false };
const on = { on: true, since: "2026-11-20T08:00:00Z", left: 9, demanded: false };
const proposal = { secret: "JBSWY3DP", address: "otpauth://totp/x", picture: "data:image/png;base64,AAAA" };

describe("the second factor", () => {
  onACleanPage();

  it("is set up, and its recovery codes are told once", async () => {
    const asked = service({
      "me/second-factor": off,
      "POST me/second-factor": proposal,
      "PUT me/second-factor": { codes: ["abcde-fghjk", "mnpqr-stuvw"] },
    });
    open(<SecondFactor />);
    await userEvent.click(await screen.findByRole("button", { name: "Set it up" }));
    await said("JBSWY3DP");
    await userEvent.type(screen.getByLabelText("The code it shows"), "123456");
    await userEvent.click(screen.getByRole("button", { name: "It counts from now on" }));
    await said("mnpqr-stuvw");
    expect(changes(asked)[1]?.body).toEqual({ code: "123456" });
    await userEvent.click(screen.getByRole("button", { name: "I have them" }));
    await waitFor(() => expect(screen.queryByText("mnpqr-stuvw")).toBeNull());
  });

  it("says why a code does not count", async () => {
    service({ "me/second-factor": off, "POST me/second-factor": proposal, "PUT me/second-factor": refused(422, "code: it does not fit") });
    open(<SecondFactor />);
    await userEvent.click(await screen.findByRole("button", { name: "Set it up" }));
    await userEvent.type(await screen.findByLabelText("The code it shows"), "1");
    await userEvent.click(screen.getByRole("button", { name: "It counts from now on" }));
    await said("code: it does not fit");
  });

  it("is given up with the password, unless it is demanded", async () => {
    const asked = service({ "me/second-factor": on, "POST me/second-factor/drop": off });
    open(<SecondFactor />);
    await said("9 recovery codes are left");
    await userEvent.type(screen.getByLabelText("Your password"), "honeycomb");
    await userEvent.click(screen.getByRole("button", { name: "Give it up" }));
    await waitFor(() => expect(changes(asked)[0]?.body).toEqual({ password: "honeycomb" }));
  });

  it("cannot be given up where it is demanded; new recovery codes can be taken", async () => {
    service({ "me/second-factor": { ...on, demanded: true }, "POST me/recovery-codes": { codes: ["fresh-codes"] } });
    open(<SecondFactor />);
    await userEvent.type(await screen.findByLabelText("Your password"), "honeycomb");
    expect(screen.queryByRole("button", { name: "Give it up" })).toBeNull();
    await userEvent.click(screen.getByRole("button", { name: "Take new recovery codes" }));
    await said("fresh-codes");
  });

  it("comes first where it is demanded and missing", async () => {
    service({ "me/second-factor": { ...off, demanded: true }, "DELETE session": {} });
    open(<FactorFirst name="Edda" />);
    await said("demanded, and not set up");
    expect(screen.getByRole("button", { name: "Sign out" })).toBeTruthy();
  });
});

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

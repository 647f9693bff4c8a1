import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import { as, changes, onACleanPage, open, refused, said, service } from "../../testing/service";
import { SecondFactor } from "./factor";
import FactorFirst from "./factorfirst";
import You from "./you";

const off = { on: false, left: 0, demanded: false };
const on = { on: true, since: "2026-11-20T08:00:00Z", left: 9, demanded: false };
const proposal = { secret: "JBSWY3DP", address: "otpauth://totp/x", picture: "data:image/png;base64,AAAA" };

const you = { ...as("clerk"), id: 1, name: "Edda", email: "edda@morrow.example" };
const showYou = (say: Record<string, unknown> = {}) => {
  const asked = service({ me: you, "me/second-factor": off, "me/sessions": [], ...say });
  open(<You />, "/you");
  return asked;
};

describe("one's own password", () => {
  onACleanPage();

  const type = async (old: string, fresh: string, again: string) => {
    await userEvent.type(await screen.findByLabelText("The present one"), old);
    await userEvent.type(screen.getByLabelText(/^The new oneAt least/), fresh);
    await userEvent.type(screen.getByLabelText(/^The new one once more/), again);
  };

  it("is changed by who knows the present one", async () => {
    const asked = showYou({ "POST me/password": you });
    await type("honeycomb", "beekeeper", "beekeeper");
    await userEvent.click(screen.getByRole("button", { name: "Change it" }));
    await said("It is changed");
    expect(changes(asked)[0]?.body).toEqual({ old: "honeycomb", new: "beekeeper" });
    expect(screen.getByLabelText<HTMLInputElement>("The present one").value).toBe("");
  });

  it("is not when it was typed in two ways, or the present one is wrong", async () => {
    const asked = showYou({ "POST me/password": refused(422, "old: that is not your password") });
    await type("guessed!", "beekeeper", "beekeepr");
    await said("It is not the same");
    expect(changes(asked)).toEqual([]);
    await userEvent.clear(screen.getByLabelText(/^The new one once more/));
    await userEvent.type(screen.getByLabelText(/^The new one once more/), "beekeeper{Enter}");
    await said("that is not your password");
  });
});

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

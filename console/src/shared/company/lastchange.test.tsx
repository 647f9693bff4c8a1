import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import { as, changes, onACleanPage, open, refused, said, service } from "../../testing/service";
import { LastChange, wordsOf } from "./lastchange";

const change = { id: 7, at: "2026-11-20T08:00:00Z", who: "Edda", kind: "sender", code: "skep", name: "skep", undoable: true };
const setter = { ...as("clerk"), may: ["setup"] };

describe("the last change of a setting", () => {
  onACleanPage();

  it("is told with who did it, and undone", async () => {
    const asked = service({ me: setter, "setting-changes": [change], "POST setting-changes/7/undo": [] });
    open(<LastChange kinds={["sender"]} />);
    await said("Sender skep changed by Edda");
    await userEvent.click(screen.getByRole("button", { name: "Undo" }));
    await waitFor(() => expect(changes(asked).map((a) => a.path)).toEqual(["setting-changes/7/undo"]));
  });

  it("that is an undoing can be taken back", async () => {
    service({ me: setter, "setting-changes": [{ ...change, undoes: 6 }] });
    open(<LastChange kinds={["sender"]} />);
    await said("Sender skep put back by Edda");
    screen.getByRole("button", { name: "Change it again" });
  });

  it("says why it cannot be undone", async () => {
    service({
      me: setter,
      "setting-changes": [change],
      "POST setting-changes/7/undo": refused(409, "sender skep was changed again since"),
    });
    open(<LastChange kinds={["sender"]} />);
    await userEvent.click(await screen.findByRole("button", { name: "Undo" }));
    await said("changed again since");
  });

  it("is not asked for by who may not set up", async () => {
    const asked = service({ me: { ...as("clerk"), may: ["look"] } });
    open(<LastChange kinds={["sender"]} />);
    await waitFor(() => expect(asked.some((a) => a.path === "me")).toBe(true));
    expect(asked.some((a) => a.path === "setting-changes")).toBe(false);
  });

  it("is worded by what was done", () => {
    expect(wordsOf({ ...change, kind: "company", name: "", undoable: true })).toBe("Company changed");
    expect(wordsOf({ ...change, made: true })).toBe("Sender skep added");
  });
});

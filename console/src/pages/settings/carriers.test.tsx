import { fireEvent, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import { answer, changes, onACleanPage, open, refused, said, service, type Asked } from "../../testing/service";
import Carriers from "./carriers";

const week = ["16:00-18:00", "16:00-18:00", "", "", "", "10:00-11:00", ""];
const carrier = { ...(answer("connections") as unknown as Record<string, unknown>[])[0], code: "ann", name: "Ann", side: "carrier" };

describe("when carriers come", () => {
  onACleanPage();

  it("reads as people say it, and is changed, refused and removed", async () => {
    let rows = [{ carrier: "ann", place: "alder", hours: { week, cutoff: "15:30", days_off: [{ from: "2026-12-24", to: "2026-12-24" }] } }];
    let refuse = true;
    const asked = service({
      connections: [carrier],
      collections: () => ({ rows }),
      "PUT collections": (a: Asked) => {
        if (refuse) return refused(422, "row 1: cut-off: such as 08:00 is expected");
        rows = (a.body as { rows: typeof rows }).rows;
        return { rows };
      },
    });
    open(<Carriers />);
    await said("Mon–Tue 16:00-18:00, Sat 10:00-11:00");
    await userEvent.click(screen.getByRole("button", { name: /^Change Ann/ }));
    fireEvent.change(await screen.findByLabelText(/^Cut-off/), { target: { value: "14:00" } });
    fireEvent.change(screen.getByLabelText(/^Days off/), { target: { value: "2026-12-24 2026-12-26 Midwinter" } });
    await userEvent.click(screen.getByText("Save"));
    await said("row 1: cut-off: such as 08:00 is expected");
    refuse = false;
    await userEvent.click(screen.getByText("Save"));
    await waitFor(() => expect(rows[0]?.hours.cutoff).toBe("14:00"));
    expect(rows[0]?.hours.days_off).toEqual([{ from: "2026-12-24", to: "2026-12-26", why: "Midwinter" }]);
    await userEvent.click(await screen.findByRole("button", { name: /^Remove Ann/ }));
    await said("Nothing is said yet.");
    expect(changes(asked)).toHaveLength(3);
  });
});

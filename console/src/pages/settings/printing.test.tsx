import { fireEvent, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import { PrintButton } from "../../shared/goods/printbutton";
import { changes, onACleanPage, open, said, service, type Asked } from "../../testing/service";
import Printing from "./printing";

const bench = { code: "bench", name: "Bench 1", address: "ipp://p.example/x", place: "alder", papers: ["label"], auto: true };

describe("printing", () => {
  onACleanPage();

  it("names printers, tests them, and takes out what waits", async () => {
    let rows: unknown[] = [bench];
    const asked = service({
      printers: () => ({ rows }),
      "PUT printers": (a: Asked) => ({ rows: (rows = (a.body as { rows: unknown[] }).rows) }),
      "print-queue": [
        {
          id: 3,
          about: "bench label S1",
          who: "Pim",
          state: "waiting",
          error: "it does not answer",
          attempts: 4,
          created_at: "2026-11-30T09:00:00Z",
        },
        {
          id: 2,
          about: "bench label S2",
          who: "relay",
          state: "done",
          created_at: "2026-11-30T08:00:00Z",
          ended_at: "2026-11-30T08:00:02Z",
        },
      ],
    });
    open(<Printing />);
    await said("it does not answer");
    await said("label; labels by itself");
    await userEvent.click(screen.getByText("Print a test page"));
    await userEvent.click(screen.getByText("Take it out"));
    await waitFor(() =>
      expect(changes(asked).map((a) => `${a.method} ${a.path}`)).toEqual(["POST printers/bench/test", "DELETE print-queue/3"]),
    );
    await userEvent.click(screen.getByText("Add a printer"));
    fireEvent.change(await screen.findByLabelText("Name"), { target: { value: "Office" } });
    fireEvent.change(screen.getByLabelText(/^Code/), { target: { value: "office" } });
    await userEvent.click(screen.getByLabelText("manifest"));
    await userEvent.click(screen.getByText("Save"));
    await waitFor(() => expect(rows).toHaveLength(2));
    expect(rows[1]).toMatchObject({ code: "office", papers: ["label", "manifest"] });
  });

  it("offers to print where a printer prints that", async () => {
    const asked = service({ printers: { rows: [bench] }, "POST print": { printer: "bench", printer_name: "Bench 1", job: 4 } });
    open(<PrintButton paper="label" numbers={["S1"]} name="Print the label" />);
    await userEvent.click(await screen.findByText("Print the label"));
    await said("goes to Bench 1");
    expect(changes(asked)[0]?.body).toEqual({ paper: "label", numbers: ["S1"] });
  });
});

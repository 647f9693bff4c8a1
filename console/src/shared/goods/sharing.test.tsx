import { fireEvent, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import { onACleanPage, open, said, service, type Asked } from "../../testing/service";
import { SharingRehearsal } from "./sharing";

const sum = (asked: number, sold: number, oversold: number, refused: number) => ({ asked, sold, oversold, refused });

describe("the rehearsal of sharing", () => {
  onACleanPage();

  it("asks for what was typed and shows both sides, all together and item by item", async () => {
    let body: unknown;
    service({
      "POST stock/rehearse-sharing": (a: Asked) => {
        body = a.body;
        return {
          items: 2,
          more: 7,
          all: sum(40, 40, 6, 0),
          shared: sum(40, 31, 0, 9),
          list: [{ sku: "HC-JAR", all: sum(10, 10, 4, 0), shared: sum(10, 6, 0, 4) }],
        };
      },
    });
    open(<SharingRehearsal />);
    await userEvent.click(screen.getByText(/What would sharing/));
    fireEvent.change(screen.getByLabelText(/^Shared from/), { target: { value: "12" } });
    fireEvent.change(screen.getByLabelText(/^Shown beyond/), { target: { value: "50" } });
    await userEvent.click(screen.getByText("Rehearse four weeks"));
    await said("2 items ran so low. 7 more did, moved less and were not looked at.");
    expect(body).toEqual({ below: 12, over: 50 });
    const cells = screen.getAllByRole("row").map((r) => r.textContent);
    expect(cells).toContain("All of themall, everywhere404060");
    expect(cells).toContain("shared403109");
    expect(cells).toContain("HC-JARall, everywhere101040");
  });

  it("says so where nothing ran low, and asks for nothing below one", async () => {
    service({ "POST stock/rehearse-sharing": { items: 0, all: sum(0, 0, 0, 0), shared: sum(0, 0, 0, 0), list: [] } });
    open(<SharingRehearsal />);
    await userEvent.click(screen.getByText(/What would sharing/));
    await userEvent.click(screen.getByText("Rehearse four weeks"));
    await said("nothing would have been shared");
    fireEvent.change(screen.getByLabelText(/^Shared from/), { target: { value: "0" } });
    await waitFor(() => expect(screen.getByText("Rehearse four weeks")).toHaveProperty("disabled", true));
  });
});

import { screen, waitFor, within } from "@testing-library/react";
import { describe, expect, it } from "vitest";
import { onACleanPage, open, refused, said, service } from "../../testing/service";
import { Files } from "./files";

const file = {
  id: 7,
  connection: "yard",
  feed: "orders in",
  way: "in",
  name: "ORD1.csv",
  size: 1200,
  at: "2026-11-29T10:00:00Z",
  records: 3,
};

describe("files of a connection", () => {
  onACleanPage();

  it("stand with what became of each", async () => {
    service({
      files: [
        { ...file, id: 9, name: "LEV_JAR.csv", feed: "stock out", way: "out", records: 1, state: "sent" },
        { ...file, id: 8, name: "ORD2.csv", records: 0, state: "refused", reason: "the body is not CSV" },
        { ...file, state: "taken" },
      ],
    });
    open(<Files code="yard" />);
    const rows = await screen.findAllByRole("row");
    expect(rows.map((r) => within(r).queryAllByRole("cell")[0]?.textContent)).toEqual([undefined, "LEV_JAR.csv", "ORD2.csv", "ORD1.csv"]);
    expect(rows[2]?.textContent).toContain("refused");
    expect(rows[2]?.textContent).toContain("the body is not CSV");
  });

  it("are not spoken of where there are none", async () => {
    const asked = service({ files: [] });
    open(<Files code="shop" />);
    await waitFor(() => expect(asked.length).toBeGreaterThan(0));
    expect(screen.queryByText("Files")).toBeNull();
  });

  it("say why they cannot be shown", async () => {
    service({ files: refused(503, "The file is being restored.") });
    open(<Files code="yard" />);
    await said("The file is being restored.");
  });
});

import { fireEvent, screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import type { Schema } from "../../api/client";
import { changes, onACleanPage, open, refused, said, service } from "../../testing/service";
import { BeginDefinition } from "./begin";
import { ComparisonView, differs } from "./comparison";
import DefinitionPage from "./definition";
import { Versions } from "./versions";

type Comparison = Schema<"RelayComparison">;

const feed: Comparison["feeds"][number] = {
  connection: "weft",
  feed: "orders in",
  kept: 900,
  looked: 500,
  otherwise: 0,
  refused: 0,
  mended: 0,
  fields: {},
  examples: [],
};

const same: Comparison = {
  connector: "weft",
  title: "Weft",
  version: 2,
  lines: "--- a\n+++ b\n@@ -1 +1 @@\n-title: Weft\n+title: Weave\n",
  feeds: [feed],
};

const other: Comparison = {
  ...same,
  feeds: [
    {
      ...feed,
      otherwise: 2,
      refused: 1,
      fields: { total: 2 },
      examples: [
        { record: "881", fields: [{ path: "total", was: "1900", now: "190000" }] },
        { record: "882", now: "the record has no version", fields: [] },
      ],
    },
  ],
};

describe("a comparison", () => {
  onACleanPage();

  it("says that all comes out the same, with the lines that were changed", () => {
    open(<ComparisonView comparison={same} />);
    expect(differs(same)).toBe(false);
    expect(document.body.textContent).toContain("all 500 kept records come out the same");
    expect(within(screen.getByLabelText("Changed lines")).getByText("+title: Weave")).toBeTruthy();
  });

  it("shows what would be otherwise, and why what would be refused", () => {
    open(<ComparisonView comparison={other} />);
    expect(differs(other)).toBe(true);
    for (const says of ["some of 500 kept records", "500 of 900", "total (2)", "190000", "the record has no version", "2 of 3 records"])
      expect(document.body.textContent).toContain(says);
  });

  it("says that there is nothing to compare on, and why a feed is not compared", () => {
    open(<ComparisonView comparison={{ ...same, version: 0, feeds: [] }} />);
    expect(document.body.textContent).toContain("no connection works by it yet");
    open(<ComparisonView comparison={{ ...same, feeds: [{ ...feed, looked: 0, not_looked: "its steps would call Weft first" }] }} />);
    expect(document.body.textContent).toContain("no record is kept");
    expect(document.body.textContent).toContain("its steps would call Weft first");
  });
});

describe("a new definition", () => {
  onACleanPage();

  it("is begun from what is known, and mistakes of the wish are said", async () => {
    let wrong = true;
    const asked = service({
      "POST connectors/draft": () =>
        wrong ? refused(422, 'there is a connector "weft" already') : { text: "connector: weft\n", open: ["access.steps"] },
    });
    let begun = "";
    open(<BeginDefinition onBegun={(d) => (begun = d.text)} />);
    fireEvent.change(screen.getByLabelText(/^Code/), { target: { value: "weft" } });
    fireEvent.change(screen.getByLabelText("How it lets us in"), { target: { value: "key" } });
    fireEvent.change(screen.getByLabelText("Header that carries it"), { target: { value: "X-Weft" } });
    fireEvent.change(screen.getByLabelText("Feed"), { target: { value: "orders in" } });
    fireEvent.change(screen.getByLabelText(/^What it answers there/), { target: { value: "[]" } });
    await userEvent.click(screen.getByText("Write a first definition"));
    await said("there is a connector");
    expect(begun).toBe("");
    wrong = false;
    await userEvent.click(screen.getByText("Write a first definition"));
    await waitFor(() => expect(begun).toBe("connector: weft\n"));
    expect(changes(asked).at(-1)?.body).toEqual({
      code: "weft",
      side: "channel",
      way: "key",
      header: "X-Weft",
      feeds: [{ kind: "orders in", path: "", sample: "[]" }],
    });
  });
});

describe("the versions of a definition", () => {
  onACleanPage();

  it("can be looked at, and an earlier one is compared before it is taken back", async () => {
    const version = { at: "2026-11-29T10:00:00Z", who: "Edda Quillon" };
    const asked = service({
      "connectors/weft/versions": [
        { ...version, version: 2, note: "shorter" },
        { ...version, version: 1 },
      ],
      "connectors/weft/versions/1": { ...version, version: 1, text: "connector: weft\n", lines: "" },
      "connectors/weft/versions/2": { ...version, version: 2, text: "connector: weft\n", lines: "--- a\n+++ b\n@@\n+title: Weave\n" },
      "POST connectors/compare": other,
      "POST connectors/weft/take-back": { connector: "weft" },
    });
    open(<Versions code="weft" open onClose={() => undefined} />);
    await said("shorter");
    await userEvent.click(screen.getByLabelText("Look at version 2"));
    await said("What version 2 changed");
    await userEvent.click(screen.getByLabelText("Look at version 1"));
    await said("Back from version 2 to version 1");
    await userEvent.click(await screen.findByText("Take it back all the same"));
    const taken = () => changes(asked).find((a) => a.path.endsWith("take-back"));
    await waitFor(() => expect(taken()?.body).toEqual({ version: 1, anyway: true }));
  });

  it("are not there of what was not added", async () => {
    service({ "connectors/hedgerow/versions": [] });
    open(<Versions code="hedgerow" open onClose={() => undefined} />);
    await said("It was not added here");
  });
});

describe("the page of a definition", () => {
  onACleanPage();

  it("says that what ships is tried and not taken, and what is wrong where", async () => {
    service({
      "connectors/hedgerow": { connector: "hedgerow", title: "Hedgerow", text: "connector: hedgerow\n", added: false },
      "POST connectors/check": {
        good: false,
        known: true,
        added: false,
        in: [],
        out: [],
        mistakes: [{ line: 1, column: 1, path: "side", text: "missing" }],
      },
    });
    open(<DefinitionPage />, "/connectors/hedgerow/edit", "/connectors/:code/edit");
    await said("What you type here is tried, and not taken.");
    await said("1 mistake");
    expect(screen.getByText("Extend it under another code").getAttribute("href")).toBe("/connectors/new?extends=hedgerow");
    expect(within(screen.getByLabelText("Mistakes")).getByText("1:1")).toBeTruthy();
    expect(screen.queryByText("Compare and take")).toBeNull();
  });

  it("says what it cannot find", async () => {
    service({ "connectors/none": refused(404, "There is no connector none.") });
    open(<DefinitionPage />, "/connectors/none/edit", "/connectors/:code/edit");
    await said("There is no connector none.");
  });
});

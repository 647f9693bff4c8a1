import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import type { Schema } from "../../api/client";
import { answer, changes, onACleanPage, open, said, service } from "../../testing/service";
import Parcels from "./parcels";

type Row = Schema<"Parcel">;

const rows = (): Row[] => {
  const one = answer<Row[]>("parcels")[0]!;
  return [
    { ...one, number: "S1", state: "packed", riders: ["S2"] },
    { ...one, number: "S3", state: "packed" },
  ];
};

const done = (results: Partial<Schema<"RelayBulkResult">>[]) => ({
  id: 7,
  action: "ship parcels",
  state: "done",
  total: results.length,
  settled: results.length,
  done: results.filter((r) => r.ok).length,
  undo: false,
  results,
});

const list = (say: Record<string, unknown> = {}, at = "/parcels") => {
  const asked = service({ parcels: rows(), manifests: [], ...say });
  open(<Parcels />, at);
  return asked;
};

describe("many parcels at once", () => {
  onACleanPage();

  it("buys labels after a second look, and says what became of each", async () => {
    const asked = list({
      "POST parcels/actions": done([
        { number: "S1", state: "done", ok: true, text: "AN0001" },
        { number: "S3", state: "refused", ok: false, text: "the buyer was promised “swift”" },
      ]),
    });
    await userEvent.click(await screen.findByRole("checkbox", { name: /all/i }));
    await userEvent.click(screen.getByRole("button", { name: "Ship" }));
    await said("A label is bought for each");
    expect(changes(asked)).toHaveLength(0);
    await userEvent.click(screen.getAllByRole("button", { name: "Ship" }).at(-1)!);
    await waitFor(() => expect(changes(asked)[0]?.body).toEqual({ action: "ship parcels", parcels: ["S1", "S3"] }));
    await said("1 of 2 done");
    await said("the buyer was promised “swift”");
    expect(screen.getByRole("link", { name: "S3" }).getAttribute("href")).toBe("/parcels/S3");
  });

  it("prints the packing slips of those that are marked", async () => {
    list();
    await userEvent.click(await screen.findByRole("checkbox", { name: /all/i }));
    expect(screen.getByRole("link", { name: "Packing slips" }).getAttribute("href")).toBe("/api/v1/packing-slips.pdf?parcels=S1,S3");
    expect(screen.queryByRole("link", { name: "Labels" })).toBeNull();
  });

  it("offers for what left to void its labels and to print them, and nothing for what was delivered", async () => {
    list({}, "/parcels?state=shipped");
    await userEvent.click(await screen.findByRole("checkbox", { name: /all/i }));
    expect(screen.getByRole("link", { name: "Labels" })).toBeTruthy();
    expect(screen.queryByRole("button", { name: "Ship" })).toBeNull();
    await userEvent.click(screen.getByRole("button", { name: "Void the labels" }));
    await said("the channels are told");
  });

  it("says how many orders lie in a carton", async () => {
    list();
    await said("+ 1");
  });
});

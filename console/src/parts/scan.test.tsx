import { cleanup, render } from "@testing-library/react";
import { MemoryRouter, useLocation } from "react-router";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { api } from "../api/client";
import { useScanAnywhere } from "./scan";

let asked: string[];
let none: string[];

function Page() {
  useScanAnywhere((code) => none.push(code));
  return (
    <>
      <input aria-label="field" />
      <output>{useLocation().pathname}</output>
    </>
  );
}

/** Types as a scanner does, or, slowly, as fingers do. */
function type(text: string, every: number, target: EventTarget = window) {
  let at = performance.now() + 1000;
  for (const key of [...text, "Enter"]) {
    const e = new KeyboardEvent("keydown", { key, bubbles: true, cancelable: true });
    Object.defineProperty(e, "timeStamp", { value: (at += every) });
    (target === window ? document.body : target).dispatchEvent(e);
  }
}

beforeEach(() => {
  asked = [];
  none = [];
  vi.spyOn(api, "GET").mockImplementation(((_: string, o: { params: { query: { code: string } } }) => {
    const code = o.params.query.code;
    asked.push(code);
    return Promise.resolve({
      data: code.startsWith("S4") ? { kind: "parcel", key: code } : { kind: "none", key: "" },
      response: new Response(),
    });
  }) as unknown as typeof api.GET);
  render(
    <MemoryRouter>
      <Page />
    </MemoryRouter>,
  );
});
afterEach(cleanup);

describe("a scan anywhere", () => {
  it("opens what it is", async () => {
    type("S40001", 5);
    await vi.waitFor(() => expect(document.querySelector("output")?.textContent).toBe("/parcels/S40001"));
  });
  it("says so of what is nothing of ours", async () => {
    type("9999999", 5);
    await vi.waitFor(() => expect(none).toEqual(["9999999"]));
  });
  it("is not what fingers type", () => {
    type("S40001", 200);
    expect(asked).toEqual([]);
  });
  it("is left to a field that has the focus", () => {
    const field = document.querySelector("input");
    if (field) type("S40001", 5, field);
    expect(asked).toEqual([]);
  });
  it("is longer than a slip of a finger", () => {
    type("ab", 5);
    expect(asked).toEqual([]);
  });
});

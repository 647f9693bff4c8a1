import { cleanup, render, screen } from "@testing-library/react";
import { afterEach, describe, expect, it } from "vitest";
import { Age, Kg, Money, When, age, count, dayText, decimal, minorOf, setZone, signed, typedAmount } from "./format";

afterEach(cleanup);

describe("amounts", () => {
  it.each([
    [1290, "EUR", "12.90"],
    [-5, "EUR", "-0.05"],
    [123456789, "EUR", "1,234,567.89"],
    [500, "JPY", "500"],
    [1234, "KWD", "1.234"],
    [0, "EUR", "0.00"],
  ])("%d of %s reads %s", (minor, currency, text) => expect(decimal(minor, currency)).toBe(text));

  it.each([
    ["12.90", "EUR", 1290],
    ["12,9", "EUR", 1290],
    [" 7 ", "EUR", 700],
    ["", "EUR", 0],
    ["500", "JPY", 500],
    ["19.99", "EUR", 1999],
  ])("%j typed in %s is %d", (typed, currency, minor) => expect(minorOf(typed, currency)).toBe(minor));

  it("is none where no number was typed", () => expect(minorOf("dear", "EUR")).toBeNaN());

  it("comes back as it was typed", () => {
    for (const minor of [0, 1, 99, 100, 1290, 123456]) expect(minorOf(typedAmount(minor, "EUR"), "EUR")).toBe(minor);
  });

  it("stands with its currency", () => {
    render(<Money minor={1290} currency="EUR" />);
    expect(screen.getByText("12.90").textContent).toBe("12.90EUR");
  });
});

describe("counts and weights", () => {
  it.each([
    [3, "+3"],
    [-1200, "−1,200"],
    [0, "0"],
  ])("%d is signed %s", (n, text) => expect(signed(n)).toBe(text));
  it("groups thousands", () => expect(count(1234567)).toBe("1,234,567"));
  it("weighs in kilograms", () => {
    const { container } = render(<Kg grams={1250} />);
    expect(container.textContent).toBe("1.25kg");
  });
});

describe("ages", () => {
  const now = Date.parse("2026-11-28T12:00:00Z");
  it.each([
    ["2026-11-28T12:00:00Z", "now"],
    ["2026-11-28T11:59:30Z", "30 s ago"],
    ["2026-11-28T11:01:00Z", "59 min ago"],
    ["2026-11-27T13:00:00Z", "23 h ago"],
    ["2026-11-20T12:00:00Z", "8 d ago"],
    ["2026-11-28T12:05:00Z", "in 5 min"],
  ])("%s was %s", (at, text) => expect(age(at, now)).toBe(text));
  it("says never of what did not happen", () => {
    render(<Age at={null} never="not yet" />);
    expect(screen.getByText("not yet")).toBeTruthy();
  });
});

describe("moments", () => {
  afterEach(() => setZone("UTC"));

  it.each([
    ["UTC", "23:30"],
    ["Etc/GMT-1", "00:30"],
    ["", "23:30"],
  ])("are on the company's clocks: in %s it is %s", (zone, says) => {
    setZone(zone);
    render(<When at="2026-11-02T23:30:00Z" />);
    expect(screen.getByText(new RegExp(says))).toBeTruthy();
  });

  it("stand even where the browser does not know the zone", () => {
    setZone("Moon/Base");
    render(<When at="2026-11-02T23:30:00Z" />);
    expect(screen.getByText(/Nov/)).toBeTruthy();
  });

  it("of a day are the same everywhere", () => {
    setZone("Etc/GMT+11");
    expect(dayText("2026-11-30")).toBe("Mon 30 Nov");
  });
});

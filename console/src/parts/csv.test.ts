import { describe, expect, it } from "vitest";
import { csvText } from "./csv";

describe("tables in files", () => {
  it.each([
    ["=1+1", "'=1+1"],
    ["@sum", "'@sum"],
    ["-2+3", "'-2+3"],
    ["＝1", "'＝1"],
    ["\tx", "'\tx"],
    ["\r=1", '"\'\r=1"'],
    ["'=1", "''=1"],
    ["-12.50", "-12.50"],
    ["+1", "+1"],
    ["plain, with a comma", '"plain, with a comma"'],
    ['a "word"', '"a ""word"""'],
  ])("writes %j so that nothing is worked out", (said, written) => {
    expect(csvText([[said]])).toBe(`${written}\r\n`);
  });

  it("leaves numbers as they are", () => {
    expect(
      csvText([
        ["a", -3],
        ["b", 4],
      ]),
    ).toBe("a,-3\r\nb,4\r\n");
  });
});

import { describe, expect, it } from "vitest";
import { productOf } from "./gs1";

describe("a GS1 symbol", () => {
  it.each([
    ["]C1010200710001052421A7", "2007100010524"],
    ["]d20102007100010524", "2007100010524"],
    ["(01)02007100010524(21)A7", "2007100010524"],
    ["010200710001052421A7", "2007100010524"],
    ["]C102020071000105243704", "2007100010524"],
  ])("%s is of a product", (code, gtin) => expect(productOf(code)).toBe(gtin));

  it.each(["JAR-500-T12", "2007100010524", "0102007100010524", " A-02-2 "])("%s stands for itself", (code) =>
    expect(productOf(code)).toBe(code.trim()),
  );
});

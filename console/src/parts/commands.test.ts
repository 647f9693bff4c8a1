import { describe, expect, it } from "vitest";
import { commandOf } from "./commands";

describe("a command's barcode", () => {
  it("is read in capitals or not", () => {
    expect(commandOf("DO-BACK")).toBe("back");
    expect(commandOf(" do-next ")).toBe("next");
    expect(commandOf("Do-Done")).toBe("done");
    expect(commandOf("DO-OFF")).toBe("written off");
  });

  it("is no product", () => {
    for (const code of ["", "DO", "DO-", "JAR-250-T24", "DONE"]) expect(commandOf(code)).toBeNull();
  });
});

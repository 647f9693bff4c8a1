import { render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { useState } from "react";
import { expect, test } from "vitest";
import { SearchField } from "./searchfield";

function Field({ by }: { by: string }) {
  const [text, setText] = useState("");
  return <SearchField of="orders" by={by} value={text} onChange={setText} />;
}

test("a search field says what it searches, in words that fit into it", async () => {
  render(<Field by="Number, name, SKU, tracking" />);
  const field = screen.getByRole<HTMLInputElement>("searchbox", { name: "Search orders" });
  expect(field.placeholder).toBe("Number, name, SKU, tracking  ( / )");
  expect(field.size).toBeGreaterThanOrEqual(field.placeholder.length);
  await userEvent.type(field, "R1001");
  expect(field.value).toBe("R1001");
});

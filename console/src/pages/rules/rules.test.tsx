import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import type { Schema } from "../../api/client";
import { as, answer, type Asked, changes, onACleanPage, open, refused, said, service } from "../../testing/service";
import EditRule from "./edit";
import { keptValue, phrase, shownValue } from "../../shared/rules/words";

onACleanPage();

const fields = answer<Schema<"Words">>("rules/words").fields;
const field = (name: string) => fields.find((f) => f.name === name);

describe("what a condition says", () => {
  it.each([
    ["total", "12.90", "1290"],
    ["total", "12,9", "1290"],
    ["weight", "1.5", "1500"],
    ["weight", "0,25", "250"],
    ["country", "XW", "XW"],
    ["total", "dear", "dear"],
    ["weight", "heavy", "heavy"],
  ])("of %s, %s is kept as %s", (name, typed, kept) => {
    expect(keptValue(field(name), typed)).toBe(kept);
  });

  it.each([
    ["total", "1290", "12.90"],
    ["weight", "250", "0.25"],
    ["town", "Alderby", "Alderby"],
    ["total", "dear", "dear"],
  ])("of %s, %s is shown as %s", (name, kept, shown) => {
    expect(shownValue(field(name), kept)).toBe(shown);
  });

  it.each([
    [{ field: "total", is: "above", values: ["5000"] }, "the total is above 50.00"],
    [{ field: "weight", is: "at most", values: ["2000"] }, "the weight is at most 2 kg"],
    [{ field: "paid", is: "is", values: ["false"] }, "not: it is paid"],
    [{ field: "country", is: "is one of", values: ["XW", "XE"] }, "the country is one of XW or XE"],
    [{ field: "gone", is: "is", values: ["x"] }, "gone is x"],
  ])("reads as a sentence: %j", (c, words) => {
    expect(phrase(c as Parameters<typeof phrase>[0], fields)).toBe(words);
  });
});

describe("a rule", () => {
  /** The service, which reads rules as it would. */
  const reads = (a: Asked) => {
    const b = a.body as { when?: string; then?: string; sentence?: unknown; actions?: unknown };
    if (b.then?.includes("moon"))
      return { when: b.when, then: b.then, sentence: null, actions: [], problem: "location “moon” is not known" };
    return {
      when: b.sentence ? "total > 5000" : b.when,
      then: b.actions ? 'tag("big")' : b.then,
      sentence: b.sentence ?? { any: false, conditions: [] },
      actions: b.actions ?? [{ do: "tag", value: "big" }],
    };
  };
  const rehearsed = { seen: 1200, changed: 40, orders: [{ number: "O10001", changes: ["tag big"] }] };
  const say = (more: Record<string, unknown> = {}) =>
    service({ "POST rules/read": reads, "POST rules/rehearse": rehearsed, "POST rules": answer("rules"), ...more });

  /** A field that may be typed into, once it is known who is here. */
  const editable = async (label: string | RegExp) => {
    await waitFor(() => expect(screen.getByLabelText<HTMLInputElement>(label).disabled).toBe(false));
    return screen.getByLabelText<HTMLInputElement>(label);
  };

  it("is built as a sentence, looked at, and only then switched on", async () => {
    const asked = say();
    open(<EditRule />, "/rules/new", "/rules/:id");
    await userEvent.type(await editable("Name"), "Big ones");
    await userEvent.click(screen.getByRole("button", { name: "Add a condition" }));
    await userEvent.selectOptions(screen.getByLabelText("Field"), "total");
    await userEvent.selectOptions(screen.getByLabelText("Comparison"), "above");
    await userEvent.type(screen.getByLabelText("Value"), "50");
    await userEvent.click(screen.getByRole("button", { name: "Add an action" }));
    await userEvent.type(screen.getByLabelText("Value of the action"), "big");
    await waitFor(() => expect(screen.getByLabelText<HTMLTextAreaElement>(/^When/).value).toBe("total > 5000"));
    await waitFor(() => expect(screen.getByLabelText<HTMLTextAreaElement>(/^Then/).value).toBe('tag("big")'));
    const on = screen.getByRole<HTMLButtonElement>("button", { name: "Switch it on" });
    expect(on.disabled).toBe(true);
    await userEvent.click(screen.getByRole("button", { name: "See what it would have changed" }));
    const result = await screen.findByTestId("rehearsal");
    expect(result.textContent).toContain("40 of 1,200 past orders");
    expect(result.textContent).toContain("The first 1 are shown.");
    await userEvent.click(on);
    await said("another page");
    const saved = changes(asked).find((a) => a.path === "rules");
    expect(saved?.body).toMatchObject({ name: "Big ones", on: true, when: "total > 5000", then: 'tag("big")' });
    const read = changes(asked)
      .filter((a) => a.path === "rules/read")
      .at(-1);
    expect(read?.body).toMatchObject({ sentence: { conditions: [{ field: "total", is: "above", values: ["5000"] }] } });
  });

  it("is looked at again when it was edited since", async () => {
    say();
    open(<EditRule />, "/rules/1", "/rules/:id");
    await userEvent.click(await screen.findByRole("button", { name: "See what it would have changed" }));
    await screen.findByTestId("rehearsal");
    await userEvent.type(await editable(/^When/), "paid");
    await said("the rule was edited since");
    expect(screen.getByRole<HTMLButtonElement>("button", { name: "Keep the change" }).disabled).toBe(true);
  });

  it("says what is wrong with its text, and is kept by nobody", async () => {
    say();
    open(<EditRule />, "/rules/1", "/rules/:id");
    const then = await editable(/^Then/);
    await userEvent.clear(then);
    await userEvent.type(then, 'location("moon")');
    await said("location “moon” is not known");
    expect(screen.getByRole<HTMLButtonElement>("button", { name: "Keep it, switched off" }).disabled).toBe(true);
    await said("The condition says more than a sentence can; edit it as text.");
  });

  it("is removed, and says who was quicker", async () => {
    const asked = say({ "POST rules": refused(409, "the rule was changed in the meantime") });
    open(<EditRule />, "/rules/1", "/rules/:id");
    await userEvent.click(await screen.findByRole("button", { name: "Remove this rule" }));
    await said("the rule was changed in the meantime");
    expect(changes(asked).find((a) => a.path === "rules")?.body).toMatchObject({ id: 1, remove: true, revision: 1 });
  });

  it("loses parts of its sentence", async () => {
    const asked = say();
    open(<EditRule />, "/rules/1", "/rules/:id");
    const sentence = await screen.findByRole("region", { name: "As a sentence" });
    await userEvent.click(within(sentence).getByRole("button", { name: "Take this action away" }));
    await waitFor(() => expect(changes(asked).at(-1)?.body).toMatchObject({ actions: [] }));
    await waitFor(() => expect(screen.getByLabelText<HTMLTextAreaElement>(/^Then/).value).toBe(""));
  });

  it("can be read, not changed, by those who do not make rules", async () => {
    say({ me: as("clerk") });
    open(<EditRule />, "/rules/1", "/rules/:id");
    expect((await screen.findByLabelText<HTMLInputElement>("Name")).disabled).toBe(true);
    expect(screen.queryByRole("button", { name: "Remove this rule" })).toBeNull();
    expect(screen.getByRole<HTMLButtonElement>("button", { name: "See what it would have changed" }).disabled).toBe(false);
  });

  it("may be gone", async () => {
    say();
    open(<EditRule />, "/rules/99", "/rules/:id");
    await said("There is no such rule; somebody may have removed it.");
  });
});

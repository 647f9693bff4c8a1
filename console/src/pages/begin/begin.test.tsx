import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import { App } from "../../app";
import { countryName, whole } from "../../shared/company/fields";
import { changes, onACleanPage, open, refused, said, service } from "../../testing/service";
import Begin from "./begin";

onACleanPage();

const fill = async () => {
  await userEvent.type(screen.getByLabelText("Name of the company"), "Morrow Hive Supply");
  await userEvent.type(screen.getByLabelText(/^Country/), "xw");
  await userEvent.type(screen.getByLabelText("Your name"), "Edda Quillon");
  await userEvent.type(screen.getByLabelText(/^E-mailWith it/), "edda@morrow.example");
  await userEvent.type(screen.getByLabelText(/^Password/), "honeycomb");
  await userEvent.type(screen.getByLabelText(/^The same once more/), "honeycomb");
};

describe("a company that begins", () => {
  it("is named with its first person, by the key in the address", async () => {
    location.hash = "#the-key";
    const asked = service({ "POST first-run": { name: "Edda Quillon", role: "lead" } });
    open(<Begin />, "/begin", "/begin");
    expect(screen.queryByLabelText(/^Key/)).toBeNull();
    await fill();
    await userEvent.click(screen.getByRole("button", { name: "Begin" }));
    await said("another page");
    expect(changes(asked)[0]?.body).toMatchObject({
      key: "the-key",
      company: { name: "Morrow Hive Supply", country: "XW" },
      person: { name: "Edda Quillon", email: "edda@morrow.example", password: "honeycomb" },
    });
    expect((changes(asked)[0]?.body as { company: object }).company).not.toHaveProperty("address");
    location.hash = "";
  });

  it("asks for the key where the address has none, and keeps what was typed when it is refused", async () => {
    service({ "POST first-run": refused(422, "the key was good for an hour; start the service again, and it prints a new one") });
    open(<Begin />, "/begin", "/begin");
    await userEvent.type(screen.getByLabelText(/^Key/), "old");
    await fill();
    await userEvent.click(screen.getByRole("button", { name: "Begin" }));
    await said("start the service again");
    expect(screen.getByLabelText<HTMLInputElement>("Name of the company").value).toBe("Morrow Hive Supply");
  });

  it("sees at once that the password was typed in two ways", async () => {
    const asked = service();
    open(<Begin />, "/begin", "/begin");
    await userEvent.type(screen.getByLabelText(/^Password/), "honeycomb");
    await userEvent.type(screen.getByLabelText(/^The same once more/), "honey");
    await said("It is not the same");
    expect(screen.getByRole<HTMLButtonElement>("button", { name: "Begin" }).disabled).toBe(true);
    expect(changes(asked)).toEqual([]);
  });
});

describe("who is not signed in", () => {
  const nobody = (yes: boolean) => service({ me: refused(401, "Sign in, or send an API token."), "first-run": { nobody: yes } });

  it("signs in where there are people", async () => {
    nobody(false);
    open(<App />);
    await waitFor(() => expect(screen.getByRole("button", { name: "Sign in" })).toBeTruthy());
  });

  it("begins where there is nobody", async () => {
    nobody(true);
    open(<App />);
    await said("A company begins");
  });
});

describe("what is said of a company", () => {
  it("has an address only where one is typed, in its country", () => {
    const c = { name: "M", time_zone: "", country: "XW" };
    const a = { name: "", street: "", postcode: "", town: " ", country: "" };
    expect(whole({ ...c, address: a }).address).toBeUndefined();
    expect(whole({ ...c, address: { ...a, street: "Alder Yard 3" } }).address).toMatchObject({ street: "Alder Yard 3", country: "XW" });
  });

  it("has its country by name", () => {
    expect([countryName("SE"), countryName("s"), countryName("99")]).toEqual(["Sweden", "", ""]);
  });
});

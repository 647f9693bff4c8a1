import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import { answer, changes, onACleanPage, open, service, type Asked } from "../../testing/service";
import { SignIn } from "./signin";

describe("signing in", () => {
  onACleanPage();

  it("asks for the code once the password was right", async () => {
    const wants = { status: 401, detail: "Type the code", errors: [{ location: "body.code", message: "Type the code" }] };
    const asked = service({ "POST session": (a: Asked) => ((a.body as { code?: string }).code ? answer("me") : wants) });
    open(<SignIn />);
    await userEvent.type(screen.getByLabelText("E-mail"), "edda@morrow.example");
    await userEvent.type(screen.getByLabelText("Password"), "honeycomb");
    await userEvent.click(screen.getByRole("button", { name: "Sign in" }));
    await userEvent.type(await screen.findByLabelText(/Code of your authenticator/), "123456");
    expect(screen.queryByText("Type the code")).toBeNull();
    await userEvent.click(screen.getByRole("button", { name: "Sign in" }));
    await waitFor(() => expect(changes(asked)).toHaveLength(2));
    expect(changes(asked)[1]?.body).toEqual({ email: "edda@morrow.example", password: "honeycomb", code: "123456" });
  });
});

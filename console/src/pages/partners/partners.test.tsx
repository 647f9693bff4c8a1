import { fireEvent, screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import { changes, onACleanPage, open, refused, said, service } from "../../testing/service";
import Agreed from "./agreed";
import PartnerItems from "./items";
import Requests from "./requests";
import PartnerStock from "./stock";

const request = {
  number: "Q10012",
  state: "asked",
  reference: "MH-Q10012",
  partner: "gate",
  partner_name: "Fallowgate",
  place: "gate",
  order: "R10077",
  asks: 2,
  currency: "EUR",
  cost: 204,
  billed: 0,
  created_at: "2026-11-23T10:00:00Z",
  asked_at: "2026-11-23T10:00:00Z",
  lines: [{ line_id: 1, item_id: 1, sku: "SMOKER-M", title: "Smoker", units: 2, sent: 0, refused: 0, called_off: 0 }],
};

const gate = {
  code: "gate",
  name: "Fallowgate",
  works: true,
  asked: true,
  test: false,
  places: ["gate"],
  requests: { asked: 2, sent: 7, refused: 1 },
  differences: 3,
  terms: { partner: "gate", order: 180, unit: 12 },
};

describe("partners", () => {
  onACleanPage();

  it("lists what they are asked, and lets a person tell what they said", async () => {
    const asked = service({
      requests: [request],
      "requests/Q10012": { ...request, parcels: [{ number: "P1", state: "shipped", carrier: "Ironway", tracking: "IW1" }] },
      "POST requests/Q10012/say": request,
      "POST requests/Q10012/sent": request,
      "POST requests/Q10012/call-off": refused(409, "request Q10012 is sent"),
    });
    open(<Requests />);
    await userEvent.click(await screen.findByText("Q10012"));
    await said("MH-Q10012");
    expect(document.body.textContent).toContain("2 times");
    expect(document.body.textContent).toContain("2.04");
    expect(screen.queryByText("They have called it off")).toBeNull();
    fireEvent.change(screen.getByLabelText(/^Why/), { target: { value: "no trays" } });
    await userEvent.click(screen.getByText("They do not send it"));
    await waitFor(() =>
      expect(changes(asked)[0]).toMatchObject({ path: "requests/Q10012/say", body: { says: "refused", reason: "no trays" } }),
    );
    await userEvent.click(screen.getByText("Type a tracking number"));
    fireEvent.change(screen.getByLabelText("Carrier"), { target: { value: "Ironway" } });
    fireEvent.change(screen.getByLabelText("Tracking number"), { target: { value: "IW2" } });
    await userEvent.click(screen.getByText("It left with that"));
    await waitFor(() => expect(changes(asked)[1]?.body).toEqual({ carrier: "Ironway", tracking: "IW2" }));
    await userEvent.click(screen.getByText("Send it from elsewhere"));
    await said("request Q10012 is sent");
  });

  it("asks only what fits where one is being called off, and nothing of one that has ended", async () => {
    service({ requests: [{ ...request, state: "being called off" }], "requests/Q10012": { ...request, state: "being called off" } });
    const page = open(<Requests />);
    await userEvent.click(await screen.findByText("Q10012"));
    await said("They have called it off");
    expect(screen.queryByText("They will send it")).toBeNull();
    expect(screen.queryByText("Send it from elsewhere")).toBeNull();
    page.unmount();
    service({ requests: [{ ...request, state: "sent" }], "requests/Q10012": { ...request, state: "sent" } });
    open(<Requests />);
    await userEvent.click(await screen.findByText("Q10012"));
    await said("MH-Q10012");
    expect(screen.queryByText("Ask them again")).toBeNull();
  });

  it("says what was agreed and takes another word", async () => {
    const asked = service({ partners: [gate], "partner-terms": { rows: [{ partner: "slate" }, gate.terms] } });
    open(<Agreed />);
    await said("1.80");
    expect(document.body.textContent).toContain("2 open");
    expect(document.body.textContent).toContain("7 sent and 1 not sent");
    expect(document.body.textContent).toContain("3 counted otherwise");
    await userEvent.click(screen.getByText("Change what was agreed"));
    const form = within(await screen.findByRole("form", { name: "What was agreed" }));
    fireEvent.change(form.getByLabelText("A parcel"), { target: { value: "2,50" } });
    fireEvent.change(form.getByLabelText("Days until what it sends arrives"), { target: { value: "3" } });
    await userEvent.click(form.getByText("Keep"));
    await waitFor(() =>
      expect(changes(asked)[0]?.body).toEqual({
        rows: [{ partner: "slate" }, { partner: "gate", order: 180, unit: 12, parcel: 250, days: 3 }],
      }),
    );
  });

  it("says of a company without partners what one is", async () => {
    service({ partners: [], requests: [] });
    const page = open(<Agreed />);
    await said("No connection can be asked");
    page.unmount();
    open(<Requests />);
    await said("whose word counts at the place");
  });

  it("takes what a partner calls an item, and that it is never asked for one", async () => {
    const asked = service({
      partners: [gate],
      "partners/gate/items": [{ sku: "JAR", name: "Jar", code: "J-1", at: "2026-11-23T10:00:00Z" }],
    });
    open(<PartnerItems />);
    expect((await screen.findByText("hand in a CSV file")).getAttribute("href")).toBe("/tables?kind=partner-items");
    await said("J-1");
    fireEvent.change(screen.getByLabelText("Our SKU"), { target: { value: "LID" } });
    fireEvent.change(screen.getByLabelText("They call it"), { target: { value: "L-9" } });
    await userEvent.click(screen.getByText("Keep"));
    await waitFor(() => expect(changes(asked)[0]?.body).toEqual({ sku: "LID", code: "L-9", ignored: false }));
    fireEvent.change(screen.getByLabelText("Our SKU"), { target: { value: "BAG" } });
    await userEvent.click(screen.getByText("Never ask for it"));
    await waitFor(() => expect(changes(asked)[1]?.body).toEqual({ sku: "BAG", code: "", ignored: true }));
    await userEvent.click(screen.getByText("Forget"));
    await waitFor(() => expect(changes(asked)[2]).toMatchObject({ method: "DELETE", path: "partners/gate/items/JAR" }));
  });

  it("shows where their stock is another, until somebody has looked", async () => {
    const asked = service({
      "stock-differences": [
        { id: 4, partner: "gate", place: "gate", sku: "JAR", name: "Jar", ours: 9, theirs: 7, at: "2026-11-23T10:00:00Z" },
      ],
    });
    open(<PartnerStock />);
    await said("−2");
    await userEvent.click(screen.getByText("nobody yet"));
    fireEvent.change(await screen.findByLabelText(/^Why it was so/), { target: { value: "broken" } });
    await userEvent.click(screen.getByText("It was looked at"));
    await waitFor(() => expect(changes(asked)[0]).toMatchObject({ path: "stock-differences/4/settle", body: { note: "broken" } }));
  });
});

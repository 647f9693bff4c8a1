import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import type { Schema } from "../../api/client";
import { answer, as, changes, onACleanPage, open, refused, said, service } from "../../testing/service";
import Bench from "./bench";
import Parcel from "./parcel";
import { drawn } from "./proposal";

type View = Schema<"ShipmentView">;
type ParcelView = Schema<"ParcelView">;

/** A shipment of five jars and a lid, all picked. */
function picked(over: Partial<View> = {}): View {
  const s = answer<View>("shipments/S10002");
  const want = (sku: string, item: number, n: number) => ({
    line_id: item,
    item_id: item,
    sku,
    gtin: `20000${item}`,
    title: `A ${sku}`,
    bin: "A-1",
    quantity: n,
    picked: n,
    packed: 0,
  });
  return { ...s, wants: [want("JAR", 1, 5), want("LID", 2, 1)], quantity: 6, picked: 6, packed: 0, parcels: [], ...over };
}

const packedOne = (): Schema<"Parcel"> => ({ ...answer<Schema<"Parcel">[]>("parcels")[0]!, number: "S10002", state: "packed" });

const bench = (say: Record<string, unknown>) => {
  const asked = service({ profiles: answer("profiles"), ...say });
  open(<Bench />, "/pack/S10002", "/pack/:number");
  return asked;
};

describe("the packing bench", () => {
  onACleanPage();

  it("packs all that is left into one parcel, and goes on to it", async () => {
    const done = picked({ state: "packed", packed: 6, parcels: [packedOne()] });
    const asked = bench({ "shipments/S10002": picked(), "POST shipments/S10002/pack": done });
    await userEvent.click(await screen.findByRole("button", { name: /Small/ }));
    await said("another page");
    expect(changes(asked)[0]?.body).toMatchObject({ profile: "small", serials: {} });
    expect(changes(asked)[0]?.body).not.toHaveProperty("units");
  });

  it("packs what was scanned for it, and a carton's code packs", async () => {
    const half = picked({ packed: 2, parcels: [packedOne()] });
    const asked = bench({ "shipments/S10002": picked(), "POST shipments/S10002/pack": half });
    const field = await screen.findByPlaceholderText(/Scan what goes into/);
    await userEvent.type(field, "JAR{Enter}");
    await userEvent.type(field, "200001{Enter}");
    await said("A JAR: 2 in this parcel");
    await userEvent.click(screen.getByRole("button", { name: "One more of JAR" }));
    await userEvent.click(screen.getByRole("button", { name: "One less of JAR" }));
    await userEvent.type(field, "small{Enter}");
    await waitFor(() => expect(changes(asked)[0]?.body).toMatchObject({ profile: "small", units: { JAR: 2 } }));
    await said("All that is left goes into one parcel");
    expect(screen.getByRole("link", { name: "S10002" }).getAttribute("href")).toBe("/parcels/S10002");
  });

  it("says loudly what does not belong, and what is too much", async () => {
    bench({ "shipments/S10002": picked() });
    const field = await screen.findByPlaceholderText(/Scan what goes into/);
    await userEvent.type(field, "SMOKER{Enter}");
    await said("“SMOKER” is not in this shipment");
    await userEvent.type(field, "LID{Enter}");
    await userEvent.type(field, "LID{Enter}");
    await said("LID: no more of it is left to pack");
  });

  it("says why a carton does not do", async () => {
    bench({ "shipments/S10002": picked(), "POST shipments/S10002/pack": refused(409, "the goods need 12.0 l, Small carton holds 6.0 l") });
    await userEvent.click(await screen.findByRole("button", { name: /Small/ }));
    await said("the goods need 12.0 l");
  });

  it("packs a part while the rest is still to be picked", async () => {
    const s = picked({ picked: 3 });
    s.wants[0]!.picked = 2;
    const asked = bench({ "shipments/S10002": s, "POST shipments/S10002/pack": s });
    await said("3 units are still to be picked");
    await userEvent.click(await screen.findByRole("button", { name: /Small/ }));
    await waitFor(() => expect(changes(asked)[0]?.body).toMatchObject({ units: { JAR: 2, LID: 1 } }));
  });

  it("takes a parcel apart again", async () => {
    const s = picked({ state: "packed", packed: 6, parcels: [packedOne()] });
    for (const w of s.wants) w.packed = w.quantity;
    const asked = bench({ "shipments/S10002": s, "POST parcels/S10002/unpack": answer("parcels/S10001") });
    await userEvent.click(await screen.findByRole("button", { name: "Unpack S10002" }));
    await waitFor(() => expect(changes(asked)[0]?.path).toBe("parcels/S10002/unpack"));
  });
});

describe("the bench by printed commands", () => {
  onACleanPage();

  const proposal = (over: Record<string, unknown> = {}) => ({
    cartons: [
      { profile: { code: "medium", name: "Medium carton" }, weight_g: 900, units: { JAR: 3 }, places: [], ...over },
      { profile: { code: "small", name: "Small carton" }, weight_g: 900, units: { JAR: 2, LID: 1 }, places: [] },
    ],
    unfit: [],
    unsized: [],
    tariff: false,
  });

  it("packs the first proposed carton as proposed, and then what was scanned", async () => {
    const half = picked({ packed: 3, parcels: [packedOne()] });
    const asked = bench({ "shipments/S10002": picked(), "shipments/S10002/proposal": proposal(), "POST shipments/S10002/pack": half });
    await screen.findByText("Proposed: 2 cartons");
    const field = screen.getByPlaceholderText(/Scan what goes into/);
    await userEvent.type(field, "do-next{Enter}");
    await waitFor(() => expect(changes(asked)[0]?.body).toMatchObject({ profile: "medium", units: { JAR: 3 } }));
    await userEvent.type(field, "LID{Enter}");
    await userEvent.type(field, "JAR{Enter}");
    await userEvent.type(field, "DO-BACK{Enter}");
    await said("A JAR: 0 in this parcel");
    await userEvent.type(field, "DO-NEXT{Enter}");
    await waitFor(() => expect((changes(asked)[1]?.body as { units: object }).units).toEqual({ LID: 1 }));
  });

  it("lays out what has serial numbers instead of packing it", async () => {
    const s = picked();
    s.wants[0]!.serials = true;
    const asked = bench({ "shipments/S10002": s, "shipments/S10002/proposal": proposal() });
    await screen.findByText("Proposed: 2 cartons");
    await userEvent.type(screen.getByPlaceholderText(/Scan what goes into/), "DO-NEXT{Enter}");
    await said("Its serial numbers are scanned first");
    await said("Serial numbers of 3 units of JAR");
    await userEvent.click(screen.getAllByRole("button", { name: "Pack it so" })[0]!);
    expect(changes(asked)).toHaveLength(0);
  });

  it("is not done before all is packed, and then goes to the parcel", async () => {
    bench({ "shipments/S10002": picked() });
    await userEvent.type(await screen.findByPlaceholderText(/Scan what goes into/), "DO-DONE{Enter}");
    await said("6 units lie in no parcel yet");
  });

  it("opens the next parcel without a label", async () => {
    const parcels = [
      { ...packedOne(), state: "shipped" as const },
      { ...packedOne(), number: "S10002-2" },
    ];
    const s = picked({ state: "packed", packed: 6, parcels });
    for (const w of s.wants) w.packed = w.quantity;
    bench({ "shipments/S10002": s });
    const field = await screen.findByPlaceholderText(/Scan a parcel/);
    await userEvent.type(field, "S1{Enter}");
    await said("is none of its parcels");
    await userEvent.type(field, "DO-DONE{Enter}");
    await said("another page");
  });
});

describe("the bench of orders that travel together", () => {
  onACleanPage();

  const other = (over: Partial<View["together"][number]> = {}): View["together"][number] => ({
    number: "S10003",
    order_number: "O10009",
    state: "picking",
    parcels: [],
    note: "By the back door",
    wants: picked()
      .wants.slice(0, 1)
      .map((w) => ({ ...w, quantity: 2, picked: 2 })),
    ...over,
  });

  it("packs the units of both, and says whose they are", async () => {
    const s = picked({ together: [other()] });
    const asked = bench({ "shipments/S10002": s, "POST shipments/S10002/pack": s });
    await said(`5 for ${s.order_number}, 2 for O10009`);
    await said("By the back door");
    await userEvent.click(await screen.findByRole("button", { name: /Small/ }));
    await waitFor(() => expect(changes(asked)[0]?.body).toMatchObject({ profile: "small" }));
  });

  it("leads to what is still to be picked of the other", async () => {
    const s = picked({
      together: [
        other({
          wants: picked()
            .wants.slice(0, 1)
            .map((w) => ({ ...w, picked: 0 })),
        }),
      ],
    });
    bench({ "shipments/S10002": s });
    const go = await screen.findByRole("link", { name: "Go on picking O10009" });
    expect(go.getAttribute("href")).toBe("/pick/S10003");
  });

  it("puts what is left into a carton that is packed already", async () => {
    const s = picked({ together: [other({ parcels: [{ ...packedOne(), number: "S10003", order_number: "O10009" }] })] });
    const asked = bench({ "shipments/S10002": s, "POST shipments/S10002/pack": s });
    await userEvent.click(await screen.findByRole("button", { name: "Put it into S10003" }));
    await waitFor(() => expect(changes(asked)[0]?.body).toMatchObject({ into: "S10003" }));
    expect(changes(asked)[0]?.body).not.toHaveProperty("profile");
  });

  it("offers orders to the same person, joins one, and parts them again", async () => {
    const offered = {
      order: "O10009",
      channel: "Little Skep",
      stage: "ready",
      units: 2,
      together: false,
      place: "Alder Yard",
      reasons: ["same recipient: Tove Farran"],
      mind: ["it has a gift note"],
    };
    const s = picked();
    const asked = bench({
      "shipments/S10002": s,
      [`orders/${s.order_number}/companions`]: [offered],
      [`POST orders/${s.order_number}/together`]: [{ ...offered, together: true, shipment: "S10003" }],
      [`POST orders/${s.order_number}/alone`]: [offered],
    });
    await said("Mind: it has a gift note");
    await userEvent.click(await screen.findByRole("button", { name: "Send together with O10009" }));
    await waitFor(() => expect(changes(asked)[0]?.body).toEqual({ with: ["O10009"] }));
    expect((await screen.findByRole("link", { name: "Pick O10009" })).getAttribute("href")).toBe("/pick/S10003");
    await userEvent.click(screen.getByRole("button", { name: "Send it alone" }));
    await waitFor(() => expect(changes(asked)[1]?.path).toBe(`orders/${s.order_number}/alone`));
  });
});

describe("a parcel that shares a carton", () => {
  onACleanPage();

  it("leads to the carton, and is taken out of it", async () => {
    const p: ParcelView = { ...answer<ParcelView>("parcels/S10001"), state: "packed", carton: "S10009" };
    const asked = service({ "parcels/S10001": p, "POST parcels/S10001/unpack": p });
    open(<Parcel />, "/parcels/S10001", "/parcels/:number");
    expect((await screen.findByRole("link", { name: "S10009" })).getAttribute("href")).toBe("/parcels/S10009");
    expect(screen.queryByText("2 · Service")).toBeNull();
    await userEvent.click(screen.getByRole("button", { name: "Take it out" }));
    await waitFor(() => expect(changes(asked)[0]?.path).toBe("parcels/S10001/unpack"));
  });

  it("lists what of the others lies in it, and asks for the serial numbers of all", async () => {
    const p: ParcelView = {
      ...answer<ParcelView>("parcels/S10001"),
      state: "packed",
      contents: [{ sku: "REFRACT", name: "A refractometer", quantity: 1, serials: true }],
      inside: [
        { number: "S10002", order_number: "O10009", contents: [{ sku: "REFRACT", name: "A refractometer", quantity: 2, serials: true }] },
      ],
    };
    service({ "parcels/S10001": p, profiles: answer("profiles"), "parcels/S10001/rates": [], "named-carriers": [] });
    open(<Parcel />, "/parcels/S10001", "/parcels/:number");
    expect((await screen.findByRole("link", { name: "O10009" })).getAttribute("href")).toBe("/orders/O10009");
    await said("Serial numbers of 3 units of REFRACT");
  });
});

describe("a parcel that its carrier refused", () => {
  onACleanPage();

  const show = (over: Partial<ParcelView>, say: Record<string, unknown> = {}) => {
    const p: ParcelView = { ...answer<ParcelView>("parcels/S10001"), state: "packed", error: "a name has two words.", ...over };
    const asked = service({ "parcels/S10001": p, profiles: answer("profiles"), "parcels/S10001/rates": [], "named-carriers": [], ...say });
    open(<Parcel />, "/parcels/S10001", "/parcels/:number");
    return asked;
  };

  it("shows which field it is, corrects it and sends it again by the same service", async () => {
    const asked = show(
      { wrong_field: "to.name", carrier_code: "plover", service: "PP" },
      { me: as("clerk"), "PUT parcels/S10001/address": {}, "POST parcels/S10001/ship": {} },
    );
    const name = await screen.findByLabelText("Name: the carrier does not take it");
    await userEvent.clear(name);
    await userEvent.type(name, "Tove Farran");
    await userEvent.click(screen.getByRole("button", { name: "Correct it and send it again" }));
    await waitFor(() => expect(changes(asked)).toHaveLength(2));
    expect(changes(asked)[0]).toMatchObject({ path: "parcels/S10001/address", body: { name: "Tove Farran" } });
    expect(changes(asked)[1]).toMatchObject({ path: "parcels/S10001/ship", body: { carrier: "plover", service: "PP" } });
  });

  it("leads to the scale where it is the weight", async () => {
    show({ wrong_field: "weight_g" });
    await said("Weigh it anew, or choose another carton.");
    expect(screen.queryByRole("button", { name: "Correct the address" })).toBeNull();
  });

  it("asks a packer to have the address corrected", async () => {
    show({ wrong_field: "to.street" }, { me: { ...as("clerk"), may: ["look", "ship"] } });
    await said("An address is corrected by whoever works on orders.");
  });
});

describe("a parcel", () => {
  onACleanPage();

  const packed = (): ParcelView => ({ ...answer<ParcelView>("parcels/S10001"), state: "packed", error: "" });
  const show = (p: ParcelView, say: Record<string, unknown> = {}) => {
    const asked = service({ "parcels/S10001": p, profiles: answer("profiles"), "parcels/S10001/rates": [], "named-carriers": [], ...say });
    open(<Parcel />, "/parcels/S10001", "/parcels/:number");
    return asked;
  };

  it("is packed anew, with the weight of the scale", async () => {
    const asked = show(packed(), { "POST parcels/S10001/repack": packed() });
    await userEvent.type(await screen.findByLabelText("Weighed, kg"), "1,25");
    await userEvent.click(screen.getByRole("button", { name: "Take this weight" }));
    await waitFor(() => expect(changes(asked)[0]?.body).toMatchObject({ profile: "small", weight_g: 1250 }));
  });

  it("is asked about a weight that is far from the sum", async () => {
    const why = refused(
      409,
      "9.000 kg were weighed, and carton and contents should weigh 1.220 kg; weigh it again, or say that it is right",
    );
    const asked = show(packed(), { "POST parcels/S10001/repack": why });
    await userEvent.type(await screen.findByLabelText("Weighed, kg"), "9");
    await userEvent.click(screen.getByRole("button", { name: "Take this weight" }));
    await userEvent.click(await screen.findByRole("button", { name: "The weight is right" }));
    await waitFor(() => expect(changes(asked)[1]?.body).toMatchObject({ weight_g: 9000, sure: true }));
  });

  it("is shipped, unpacked and emptied by scan, and takes a label's number", async () => {
    const p = { ...packed(), contents: [{ sku: "JAR", gtin: "2007100012344", name: "A jar", quantity: 2 }] };
    const asked = show(p, {
      "parcels/S10001/rates": [
        { carrier: "plover", service: "PL", price: 0, currency: "EUR", refused: "too long", best: [] },
        { carrier: "plover", service: "PP", price: 500, currency: "EUR", best: ["cheapest"] },
      ],
      "named-carriers": [{ code: "ferry", name: "Greywick Ferry" }],
      "POST parcels/S10001/take-out": p,
      "POST parcels/actions": {
        id: 3,
        state: "done",
        results: [{ number: "S10001", state: "refused", ok: false, text: "the buyer was promised “swift”, and no carrier takes it" }],
      },
      "POST parcels/S10001/unpack": p,
    });
    const field = await screen.findByPlaceholderText(/Scan “Done”/);
    await screen.findByText("too long", { exact: false });
    await userEvent.type(field, "2007100012344{Enter}");
    await said("One JAR taken out");
    await userEvent.type(field, "GF 77{Enter}");
    await said("Number GF 77: choose its carrier");
    expect((screen.getByLabelText("Tracking number") as HTMLInputElement).value).toBe("GF 77");
    await userEvent.type(field, "DO-NEXT{Enter}");
    await said("It is packed");
    await userEvent.type(field, "DO-DONE{Enter}");
    await said("Wrong: the buyer was promised “swift”");
    await userEvent.type(field, "DO-BACK{Enter}");
    await said("another page");
    expect(changes(asked).map((a) => [a.path, a.body])).toEqual([
      ["parcels/S10001/take-out", { units: { JAR: 1 } }],
      ["parcels/actions", { action: "ship parcels", parcels: ["S10001"] }],
      ["parcels/S10001/unpack", undefined],
    ]);
  });

  it("is unpacked, and its shipment goes on", async () => {
    const asked = show(packed(), { "POST parcels/S10001/unpack": packed() });
    await userEvent.click(await screen.findByRole("button", { name: "Unpack" }));
    await said("another page");
    expect(changes(asked)[0]?.path).toBe("parcels/S10001/unpack");
  });

  it("that left with a typed number has it corrected", async () => {
    const barge = { code: "barge", name: "Barge", archived_at: null };
    const gone = { ...packed(), state: "shipped" as const, tracking: "BG 1", carrier: "Barge", typed: true };
    const asked = show(gone, { "named-carriers": [barge], "POST parcels/S10001/typed": gone, "orders/O10001": answer("orders/S-1") });
    await userEvent.type(await screen.findByLabelText("Tracking number"), "BG 2");
    await userEvent.click(screen.getByRole("button", { name: "This is the number" }));
    await waitFor(() => expect(changes(asked)[0]?.body).toEqual({ carrier: "barge", number: "BG 2" }));
  });

  it("that was called off leads to its shipment", async () => {
    show({ ...packed(), state: "called off" });
    expect((await screen.findByRole("link", { name: "To its shipment" })).getAttribute("href")).toBe("/pack/S10001");
  });
});

describe("the proposal", () => {
  onACleanPage();
  const at = (sku: string, x: number, z: number) => ({ sku, x, y: 0, z, length: 100, width: 100, height: 100 });
  const proposal = {
    cartons: [
      {
        profile: answer<Schema<"PackingProfile">[]>("profiles")[0],
        weight_g: 3200,
        cost: 522,
        currency: "EUR",
        units: { JAR: 5, LID: 1 },
        places: [at("JAR", 0, 0), at("JAR", 100, 0), at("LID", 0, 100)],
      },
    ],
    unfit: [{ sku: "LADDER", quantity: 1, why: "LADDER does not fit into Small carton" }],
    unsized: ["CARD"],
    tariff: true,
  };

  it("is drawn, says what goes into no carton, and is packed with a press", async () => {
    const asked = bench({
      "shipments/S10002": picked(),
      "shipments/S10002/proposal": proposal,
      "POST shipments/S10002/pack": picked({ packed: 6 }),
    });
    await screen.findByRole("img", { name: /loaded with 1: 5 × JAR, 2: 1 × LID/ });
    await said("LADDER goes into no carton");
    await said("Of unknown size, and not drawn: CARD");
    await userEvent.click(screen.getByRole("button", { name: "Pack it so" }));
    await waitFor(() => expect(changes(asked)[0]?.body).toEqual({ profile: "small", units: { JAR: 5, LID: 1 } }));
  });

  it("draws what stands on another after it", () => {
    const order = drawn([at("LID", 0, 100), at("JAR", 100, 0), at("JAR", 0, 0)] as Schema<"RelayProposedCarton">["places"]);
    const first = (x: number, z: number) => order.findIndex((p) => p.x === x && p.z === z);
    expect(first(0, 0)).toBeLessThan(first(100, 0));
    expect(first(0, 0)).toBeLessThan(first(0, 100));
    expect(order).toHaveLength(3);
  });
});

import { screen, waitFor } from "@testing-library/react";
import type { ReactNode } from "react";
import { describe, expect, it } from "vitest";
import { onACleanPage, open, refused, service } from "../testing/service";
import Activity from "./activity/activity";
import Reports from "./activity/reports";
import { Board } from "./board/board";
import Catalog from "./catalog/catalog";
import Listings from "./catalog/listings";
import Offers from "./catalog/offers";
import Tables from "./catalog/tables";
import Terms from "./catalog/terms";
import Connection from "./connections/connection";
import Connections from "./connections/connections";
import Exceptions from "./exceptions/exceptions";
import Connectors from "./joining/connectors";
import Join from "./joining/join";
import Order from "./orders/order";
import Orders from "./orders/orders";
import TypeOrder from "./orders/type";
import Bench from "./parcels/bench";
import Parcel from "./parcels/parcel";
import Parcels from "./parcels/parcels";
import Pick from "./picking/pick";
import Picking from "./picking/picking";
import Rules from "./rules/rules";
import Settings from "./settings/settings";
import Item from "./stock/item";
import Stock from "./stock/stock";
import Compare from "./supply/compare";
import Count from "./supply/count";
import { Counts, Receiving, Transfers } from "./supply/lists";
import Receive from "./supply/receive";
import Transfer from "./supply/transfer";

onACleanPage();

type Page = { name: string; page: ReactNode; at?: string; route?: string; asks: string; says: string[]; empty?: [unknown, string] };

/** Each page with what it asks for, what it says of a small company, and what it says where there is nothing. */
const pages: Page[] = [
  { name: "board", page: <Board />, asks: "board", says: ["The stall"] },
  { name: "orders", page: <Orders />, asks: "orders", says: ["O10001", "O10003", "held"], empty: [[], "Nobody has bought yet"] },
  { name: "order", page: <Order />, at: "/orders/S-1", route: "/orders/:number", asks: "orders/S-1", says: ["O10001", "JAR", "packed"] },
  { name: "exceptions", page: <Exceptions />, asks: "exceptions", says: ["unknown item", "GHOST"], empty: [[], "Nothing"] },
  { name: "picking", page: <Picking />, asks: "orders", says: ["O10002"] },
  { name: "pick", page: <Pick />, at: "/pick/S10002", route: "/pick/:number", asks: "shipments/S10002", says: ["A JAR"] },
  { name: "parcels", page: <Parcels />, asks: "parcels", says: ["S10001"], empty: [[], "No"] },
  { name: "parcel", page: <Parcel />, at: "/parcels/S10001", route: "/parcels/:number", asks: "parcels/S10001", says: ["S10001"] },
  { name: "bench", page: <Bench />, at: "/pack/S10002", route: "/pack/:number", asks: "shipments/S10002", says: ["S10002"] },
  { name: "stock", page: <Stock />, asks: "stock", says: ["JAR", "Alder Yard"], empty: [[], "No"] },
  { name: "item", page: <Item />, at: "/stock/JAR", route: "/stock/:sku", asks: "items/JAR", says: ["A JAR", "Alder Yard", "The stall"] },
  { name: "catalog", page: <Catalog />, asks: "items", says: ["JAR", "A LID"], empty: [[], "No"] },
  { name: "listings", page: <Listings />, asks: "listings", says: ["A JAR"] },
  { name: "offers", page: <Offers />, asks: "listings", says: ["A JAR"] },
  { name: "tables", page: <Tables />, asks: "sheets", says: ["Items"], empty: [[], "No"] },
  { name: "terms", page: <Terms />, asks: "locations", says: ["Alder Yard", "Pier Nine"] },
  { name: "connections", page: <Connections />, asks: "connections", says: ["The stall", "Anna"], empty: [[], "Nothing is joined yet"] },
  {
    name: "connection",
    page: <Connection />,
    at: "/connections/stall",
    route: "/connections/:code",
    asks: "connections/stall",
    says: ["The stall", "orders in", "stock out"],
  },
  { name: "connectors", page: <Connectors />, asks: "connectors", says: ["Hedgerow"] },
  {
    name: "join",
    page: <Join />,
    at: "/connections/stall/join",
    route: "/connections/:code/join",
    asks: "connections/stall/join",
    says: ["The stall"],
  },
  { name: "rules", page: <Rules />, asks: "rules", says: ["seen"], empty: [[], "No"] },
  { name: "type an order", page: <TypeOrder />, asks: "connections", says: ["Type an order"] },
  { name: "activity", page: <Activity />, asks: "activity", says: ["S-1"] },
  { name: "reports", page: <Reports />, asks: "reports/source", says: ["stall"] },
  { name: "settings", page: <Settings />, asks: "company", says: ["The company, notices and privacy"] },
  { name: "receiving", page: <Receiving />, asks: "purchases", says: ["Clay works"], empty: [[], "No"] },
  {
    name: "receive",
    page: <Receive />,
    at: "/receiving/P10001",
    route: "/receiving/:number",
    asks: "purchases/P10001",
    says: ["Clay works", "JAR"],
  },
  { name: "transfers", page: <Transfers />, asks: "transfers", says: ["Pier Nine"], empty: [[], "No"] },
  { name: "transfer", page: <Transfer />, at: "/transfers/T10001", route: "/transfers/:number", asks: "transfers/T10001", says: ["LID"] },
  { name: "counts", page: <Counts />, asks: "counts", says: ["Alder Yard"], empty: [[], "No"] },
  { name: "count", page: <Count />, at: "/counts/C10001", route: "/counts/:number", asks: "counts/C10001", says: ["Alder Yard"] },
  { name: "compare", page: <Compare />, asks: "compare", says: ["Compare"] },
];

describe.each(pages)("the page $name", ({ page, at, route, asks, says, empty }) => {
  it("shows what the service says", async () => {
    const asked = service();
    open(page, at, route);
    for (const text of says) await waitFor(() => expect(document.body.textContent).toContain(text));
    expect(asked.map((a) => a.path)).toContain(asks);
    expect(asked.every((a) => a.method === "GET")).toBe(true); // looking changes nothing
  });

  it("says what went wrong, and shows nothing that is not so", async () => {
    service({ [asks]: refused(500, "Something broke on our side. It is in the service's log.") });
    open(page, at, route);
    await waitFor(() => expect(document.body.textContent).toContain("Something broke on our side"));
  });

  if (empty)
    it("says that there is nothing", async () => {
      service({ [asks]: empty[0] });
      open(page, at, route);
      await waitFor(() => expect(document.body.textContent).toContain(empty[1]));
      expect(screen.queryByText("JAR")).toBeNull();
    });
});

import { queryOptions } from "@tanstack/react-query";
import { setZone } from "../parts/format";
import { api, take, type Schema } from "./client";

/** What pages ask for, written once for each noun: the key under which it is kept, and how it is asked for. */

export const meQuery = queryOptions({ queryKey: ["me"], queryFn: () => take(api.GET("/api/v1/me")), staleTime: Infinity });

/** The company: its currency is that of what says none, new addresses begin with its country, and moments are on its clocks. */
export const companyQuery = queryOptions({
  queryKey: ["company"],
  queryFn: async () => {
    const company = await take(api.GET("/api/v1/company"));
    setZone(company.time_zone);
    return company;
  },
  staleTime: 60_000,
});

/** All places, also those used no more. */
export const keptLocationsQuery = queryOptions({ queryKey: ["locations"], queryFn: () => take(api.GET("/api/v1/locations")) });

/** The places that are used. */
export const locationsQuery = queryOptions({ ...keptLocationsQuery, select: (list) => list.filter((l) => !l.archived_at) });

/** Whom parcels come from, also those used no more. */
export const sendersQuery = queryOptions({ queryKey: ["senders"], queryFn: () => take(api.GET("/api/v1/senders")) });

/** Carriers that are only named, also those used no more. */
export const namedCarriersQuery = queryOptions({ queryKey: ["named carriers"], queryFn: () => take(api.GET("/api/v1/named-carriers")) });

export const connectionsQuery = queryOptions({ queryKey: ["connections"], queryFn: () => take(api.GET("/api/v1/connections")) });

export const connectionQuery = (code: string) =>
  queryOptions({
    queryKey: ["connection", code],
    queryFn: () => take(api.GET("/api/v1/connections/{code}", { params: { path: { code } } })),
  });

export const joinQuery = (code: string) =>
  queryOptions({
    queryKey: ["join", code],
    queryFn: () => take(api.GET("/api/v1/connections/{code}/join", { params: { path: { code } } })),
  });

export const orderQuery = (number: string) =>
  queryOptions({ queryKey: ["order", number], queryFn: () => take(api.GET("/api/v1/orders/{number}", { params: { path: { number } } })) });

export const shipmentQuery = (number: string) =>
  queryOptions({
    queryKey: ["shipment", number],
    queryFn: () => take(api.GET("/api/v1/shipments/{number}", { params: { path: { number } } })),
  });

export const companionsQuery = (order: string) =>
  queryOptions({
    queryKey: ["companions", order],
    queryFn: () => take(api.GET("/api/v1/orders/{number}/companions", { params: { path: { number: order } } })),
  });

export const parcelQuery = (number: string) =>
  queryOptions({
    queryKey: ["parcel", number],
    queryFn: () => take(api.GET("/api/v1/parcels/{number}", { params: { path: { number } } })),
  });

/** The rules by which many orders are picked in one walk. */
export const roundRulesQuery = queryOptions({ queryKey: ["round rules"], queryFn: () => take(api.GET("/api/v1/round-rules")) });

export const rulesQuery = queryOptions({ queryKey: ["rules"], queryFn: () => take(api.GET("/api/v1/rules")) });

export const causesQuery = queryOptions({ queryKey: ["causes"], queryFn: () => take(api.GET("/api/v1/exceptions/causes")) });

export const priceListsQuery = queryOptions({ queryKey: ["price-lists"], queryFn: () => take(api.GET("/api/v1/price-lists")) });

export const ownersQuery = queryOptions({ queryKey: ["owners"], queryFn: () => take(api.GET("/api/v1/field-owners")) });

export const optionGroupsQuery = queryOptions({ queryKey: ["option-groups"], queryFn: () => take(api.GET("/api/v1/option-groups")) });

export const profilesQuery = queryOptions({
  queryKey: ["profiles"],
  queryFn: () => take(api.GET("/api/v1/profiles")),
  staleTime: Infinity,
});

/** Who works here; asked by those who assign. */
export const peopleHereQuery = queryOptions({
  queryKey: ["people here"],
  queryFn: () => take(api.GET("/api/v1/people-here")),
  staleTime: Infinity,
  retry: false,
});

/** Something that the role of who is signed in may allow. */
export type Permission = Schema<"Person">["may"][number];

/** Tells whether who is signed in may do something; the service asks again. */
export function may(me: Schema<"Person"> | undefined, needed: Permission): boolean {
  return me?.may.includes(needed) ?? false;
}

import { NavLink } from "react-router";

/** The pages that belong together, in a row below the head. */
export function Rail({ label, stops }: { label: string; stops: readonly (readonly [string, string])[] }) {
  return (
    <nav aria-label={label} className="mb-4 flex flex-wrap gap-x-5 border-b border-rule">
      {stops.map(([path, name]) => (
        <NavLink
          key={path}
          to={path}
          end
          className={({ isActive }) =>
            `-mb-px border-b-2 py-1 ${isActive ? "border-ink font-semibold" : "border-transparent text-quiet hover:text-ink"}`
          }
        >
          {name}
        </NavLink>
      ))}
    </nav>
  );
}

export const catalogStops = [
  ["/catalog", "Items"],
  ["/listings", "Listings"],
  ["/offers", "Offers"],
  ["/publish", "Publish"],
  ["/tables", "CSV"],
  ["/catalog/terms", "Terms"],
] as const;

export const stockStops = [
  ["/stock", "Levels"],
  ["/receiving", "Receiving"],
  ["/counts", "Counts"],
  ["/transfers", "Transfers"],
  ["/compare", "Compare"],
] as const;

export const settingsStops = [
  ["/settings", "Company"],
  ["/settings/places", "Places"],
  ["/settings/parcels", "Parcels and numbers"],
  ["/settings/services", "Services"],
  ["/settings/carriers", "Carriers"],
  ["/settings/routing", "Routing"],
  ["/settings/freight", "Freight"],
  ["/settings/printing", "Printing"],
  ["/settings/senders", "Senders and carriers"],
  ["/settings/people", "People"],
  ["/settings/security", "Security"],
  ["/settings/keeping", "Keeping"],
] as const;

export const partnerStops = [
  ["/requests", "Requests"],
  ["/partners", "Agreed"],
  ["/partners/items", "Items"],
  ["/partners/stock", "Their stock"],
] as const;

export const activityStops = [
  ["/activity", "What happened"],
  ["/reports", "Reports"],
  ["/bills", "Bills"],
] as const;

import { companyQuery, meQuery } from "./api/queries";
import { clsx } from "clsx";
import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense, useCallback, useEffect, useState } from "react";
import { Link, NavLink, Navigate, Route, Routes, useLocation } from "react-router";
import { api, Problem, take, type Schema } from "./api/client";
import { useLive } from "./api/live";
import { Boundary } from "./parts/boundary";
import { Button, Head, Loading, Sheet, Trouble } from "./parts/controls";
import { LampShape } from "./parts/lamp";
import { useScanAnywhere } from "./parts/scan";
import { switchTheme } from "./parts/theme";
import { Board } from "./pages/board/board";
import { SignIn } from "./pages/signin/signin";

const Begin = lazy(() => import("./pages/begin/begin"));
const Orders = lazy(() => import("./pages/orders/orders"));
const Order = lazy(() => import("./pages/orders/order"));
const Picking = lazy(() => import("./pages/picking/picking"));
const Pick = lazy(() => import("./pages/picking/pick"));
const Parcels = lazy(() => import("./pages/parcels/parcels"));
const PackingBench = lazy(() => import("./pages/parcels/bench"));
const Parcel = lazy(() => import("./pages/parcels/parcel"));
const Round = lazy(() => import("./pages/picking/round"));
const Returns = lazy(() => import("./pages/returns/returns"));
const Return = lazy(() => import("./pages/returns/return"));
const Stock = lazy(() => import("./pages/stock/stock"));
const Catalog = lazy(() => import("./pages/catalog/catalog"));
const Listings = lazy(() => import("./pages/catalog/listings"));
const Offers = lazy(() => import("./pages/catalog/offers"));
const Publish = lazy(() => import("./pages/catalog/publish"));
const Terms = lazy(() => import("./pages/catalog/terms"));
const EditItem = lazy(() => import("./pages/catalog/edit"));
const Tables = lazy(() => import("./pages/catalog/tables"));
const TablePage = lazy(() => import("./pages/catalog/tables").then((m) => ({ default: m.TablePage })));
const Receiving = lazy(() => import("./pages/supply/lists").then((m) => ({ default: m.Receiving })));
const Transfers = lazy(() => import("./pages/supply/lists").then((m) => ({ default: m.Transfers })));
const Counts = lazy(() => import("./pages/supply/lists").then((m) => ({ default: m.Counts })));
const Receive = lazy(() => import("./pages/supply/receive"));
const Transfer = lazy(() => import("./pages/supply/transfer"));
const Count = lazy(() => import("./pages/supply/count"));
const Compare = lazy(() => import("./pages/supply/compare"));
const Item = lazy(() => import("./pages/stock/item"));
const Connections = lazy(() => import("./pages/connections/connections"));
const Connection = lazy(() => import("./pages/connections/connection"));
const Connectors = lazy(() => import("./pages/joining/connectors"));
const DefinitionPage = lazy(() => import("./pages/joining/definition"));
const Join = lazy(() => import("./pages/joining/join"));
const Bench = lazy(() => import("./pages/joining/bench"));
const Exceptions = lazy(() => import("./pages/exceptions/exceptions"));
const Rules = lazy(() => import("./pages/rules/rules"));
const EditRule = lazy(() => import("./pages/rules/edit"));
const TypeOrder = lazy(() => import("./pages/orders/type"));
const Reports = lazy(() => import("./pages/activity/reports"));
const Places = lazy(() => import("./pages/settings/places"));
const FactorFirst = lazy(() => import("./pages/you/factorfirst"));
const Security = lazy(() => import("./pages/settings/security"));
const Bills = lazy(() => import("./pages/bills/bills"));
const Requests = lazy(() => import("./pages/partners/requests"));
const Agreed = lazy(() => import("./pages/partners/agreed"));
const PartnerItems = lazy(() => import("./pages/partners/items"));
const PartnerStock = lazy(() => import("./pages/partners/stock"));
const RoutingSettings = lazy(() => import("./pages/settings/routing"));
const FreightSettings = lazy(() => import("./pages/settings/freight"));
const PrintingSettings = lazy(() => import("./pages/settings/printing"));
const CarrierSettings = lazy(() => import("./pages/settings/carriers"));
const ServiceSettings = lazy(() => import("./pages/settings/services"));
const ParcelSettings = lazy(() => import("./pages/settings/parcels"));
const SenderSettings = lazy(() => import("./pages/settings/senders"));
const KeepingPage = lazy(() => import("./pages/settings/keeping"));
const You = lazy(() => import("./pages/you/you"));
const PeoplePage = lazy(() => import("./pages/settings/people"));
const Settings = lazy(() => import("./pages/settings/settings"));
const Activity = lazy(() => import("./pages/activity/activity"));

const stations = [
  ["/", "Board"],
  ["/exceptions", "Exceptions"],
  ["/orders", "Orders"],
  ["/picking", "Picking"],
  ["/parcels", "Parcels"],
  ["/returns", "Returns"],
  ["/requests", "Partners"],
  ["/stock", "Stock"],
  ["/catalog", "Catalog"],
  ["/connections", "Connections"],
  ["/rules", "Rules"],
  ["/activity", "Activity"],
  ["/settings", "Settings"],
] as const;

/** Pages that belong to a station and have addresses of their own. */
const belongs: Record<string, RegExp> = {
  "/stock": /^\/(receiving|counts|transfers|compare)/,
  "/catalog": /^\/(listings|offers|publish|tables|items)/,
  "/picking": /^\/(pick|pack|rounds)\//,
  "/connections": /^\/connectors/,
  "/requests": /^\/partners/,
  "/activity": /^\/(reports|bills)/,
};

const inside = (station: string, where: string) => belongs[station]?.test(where) ?? false;

export function App() {
  const me = useQuery({ ...meQuery, retry: false });
  if (me.isPending) return null;
  if (me.error) {
    if (me.error instanceof Problem && me.error.status === 401) return <Outside />;
    return (
      <div className="mx-auto mt-24 max-w-lg">
        <Trouble error={me.error} />
      </div>
    );
  }
  if (me.data.factor_due)
    return (
      <Suspense>
        <FactorFirst name={me.data.name} />
      </Suspense>
    );
  return <InTheCompany person={me.data} />;
}

/** Waits until it is known on which clocks the company lives; moments are written on them. */
function InTheCompany({ person }: { person: Schema<"Person"> }) {
  const company = useQuery(companyQuery);
  return company.isPending ? null : <Cabin person={person} />;
}

/** An address at which there is nothing. */
function NoPage() {
  const where = useLocation().pathname;
  return (
    <>
      <Head title="There is no such page" sub={<span className="code break-all">{where}</span>} />
      <p>
        The address may be mistyped, or it is from another version.{" "}
        <Link to="/" className="underline decoration-rule underline-offset-4 hover:decoration-ink">
          To the board
        </Link>
      </p>
    </>
  );
}

/** Who is not signed in: the way in, or, where there is nobody who could sign in, the beginning. */
function Outside() {
  const first = useQuery({ queryKey: ["first-run"], queryFn: () => take(api.GET("/api/v1/first-run")) });
  if (first.isPending) return null;
  if (first.error)
    return (
      <div className="mx-auto mt-24 max-w-lg">
        <Trouble error={first.error} />
      </div>
    );
  return first.data.nobody ? (
    <Suspense>
      <Begin />
    </Suspense>
  ) : (
    <SignIn />
  );
}

function Cabin({ person }: { person: Schema<"Person"> }) {
  const connected = useLive();
  const [foreign, setForeign] = useState("");
  useScanAnywhere(useCallback((code: string) => setForeign(code), []));
  const help = useHelpKeys();
  const where = useLocation().pathname;
  const picking = /^\/(pick|pack|receiving|counts|transfers)\/./.test(where);
  return (
    <div className="md:flex">
      <nav
        aria-label="Pages"
        className={clsx(
          picking ? "hidden md:flex" : "flex",
          "sticky top-0 z-30 w-full shrink-0 flex-row overflow-x-auto border-b border-rule bg-paper",
          "md:h-screen md:w-44 md:flex-col md:border-r md:border-b-0 md:py-4",
        )}
      >
        <div className="hidden items-center gap-2 px-4 pb-5 text-[15px] font-semibold md:flex">
          <img src="/mark.svg" alt="" width="22" height="22" />
          Open Relay
        </div>
        <ul className="relative flex flex-row md:flex-col">
          <li aria-hidden="true" className="absolute top-3 bottom-3 left-[21.5px] hidden w-px bg-rule md:block" />
          {stations.map(([path, name]) => (
            <li key={path}>
              <NavLink
                to={path}
                end={path === "/"}
                className={({ isActive }) =>
                  clsx(
                    "relative flex items-center gap-3 px-3 py-2 md:px-4 md:py-1.5",
                    isActive || inside(path, where) ? "font-semibold" : "text-quiet hover:text-ink",
                  )
                }
              >
                {({ isActive }) => (
                  <>
                    <span
                      aria-hidden="true"
                      className={clsx(
                        "hidden h-[11px] w-[11px] rounded-full border-[1.6px] md:block",
                        isActive || inside(path, where) ? "border-ink bg-ink" : "border-rule bg-paper",
                      )}
                    />
                    {name}
                  </>
                )}
              </NavLink>
            </li>
          ))}
          <li className="md:hidden">
            <NavLink to="/you" className={({ isActive }) => clsx("block px-3 py-2", isActive ? "font-semibold" : "text-quiet")}>
              You
            </NavLink>
          </li>
        </ul>
        <div className="mt-auto hidden px-4 text-[12px] leading-5 text-quiet md:block">
          <Link to="/you" className="font-medium text-ink underline decoration-rule underline-offset-4 hover:decoration-ink">
            {person.name}
          </Link>
          <div>{person.role}</div>
          <div className="mt-1 flex flex-col items-start">
            <Button kind="quiet" className="text-[12px]" onClick={help.show}>
              Keys
            </Button>
            <Button kind="quiet" className="text-[12px]" onClick={switchTheme}>
              Light or dark
            </Button>
            <Button
              kind="quiet"
              className="text-[12px]"
              onClick={() => void api.DELETE("/api/v1/session").then(() => location.assign("/"))}
            >
              Sign out
            </Button>
          </div>
        </div>
      </nav>
      <main className="min-w-0 flex-1 px-4 py-4 md:px-7 md:py-5">
        {!connected && (
          <div role="status" className="mb-3 flex items-center gap-2 border-l-4 border-caution bg-sheet px-3 py-1.5">
            <LampShape state="caution" /> The line to the service is down; what you see may be old. It is taken up again by itself.
          </div>
        )}
        <Boundary where={where}>
          <Suspense fallback={<Loading />}>
            <Routes>
              <Route index element={<Board />} />
              <Route path="orders" element={<Orders />} />
              <Route path="exceptions" element={<Exceptions />} />
              <Route path="type" element={<TypeOrder />} />
              <Route path="rules" element={<Rules />} />
              <Route path="rules/:id" element={<EditRule />} />
              <Route path="reports" element={<Reports />} />
              <Route path="settings" element={<Settings />} />
              <Route path="settings/places" element={<Places />} />
              <Route path="settings/people" element={<PeoplePage />} />
              <Route path="you" element={<You />} />
              <Route path="settings/security" element={<Security />} />
              <Route path="settings/parcels" element={<ParcelSettings />} />
              <Route path="bills" element={<Bills />} />
              <Route path="requests" element={<Requests />} />
              <Route path="partners" element={<Agreed />} />
              <Route path="partners/items" element={<PartnerItems />} />
              <Route path="partners/stock" element={<PartnerStock />} />
              <Route path="settings/routing" element={<RoutingSettings />} />
              <Route path="settings/freight" element={<FreightSettings />} />
              <Route path="settings/printing" element={<PrintingSettings />} />
              <Route path="settings/carriers" element={<CarrierSettings />} />
              <Route path="settings/services" element={<ServiceSettings />} />
              <Route path="settings/senders" element={<SenderSettings />} />
              <Route path="settings/keeping" element={<KeepingPage />} />
              <Route path="orders/:number" element={<Order />} />
              <Route path="picking" element={<Picking />} />
              <Route path="pick/:number" element={<Pick />} />
              <Route path="rounds/:number" element={<Round />} />
              <Route path="pack/:number" element={<PackingBench />} />
              <Route path="parcels" element={<Parcels />} />
              <Route path="parcels/:number" element={<Parcel />} />
              <Route path="returns" element={<Returns />} />
              <Route path="returns/:number" element={<Return />} />
              <Route path="stock" element={<Stock />} />
              <Route path="catalog" element={<Catalog />} />
              <Route path="catalog/terms" element={<Terms />} />
              <Route path="listings" element={<Listings />} />
              <Route path="offers" element={<Offers />} />
              <Route path="publish" element={<Publish />} />
              <Route path="tables" element={<Tables />} />
              <Route path="tables/:id" element={<TablePage />} />
              <Route path="items/new" element={<EditItem />} />
              <Route path="items/:sku" element={<Item />} />
              <Route path="items/:sku/edit" element={<EditItem />} />
              <Route path="receiving" element={<Receiving />} />
              <Route path="receiving/:number" element={<Receive />} />
              <Route path="transfers" element={<Transfers />} />
              <Route path="transfers/:number" element={<Transfer />} />
              <Route path="counts" element={<Counts />} />
              <Route path="counts/:number" element={<Count />} />
              <Route path="compare" element={<Compare />} />
              <Route path="connections" element={<Connections />} />
              <Route path="connectors" element={<Connectors />} />
              <Route path="connectors/new" element={<DefinitionPage />} />
              <Route path="connectors/:code/edit" element={<DefinitionPage />} />
              <Route path="connections/:code" element={<Connection />} />
              <Route path="connections/:code/join" element={<Join />} />
              <Route path="connections/:code/bench" element={<Bench />} />
              <Route path="activity" element={<Activity />} />
              <Route path="begin" element={<Navigate to="/" replace />} />
              <Route path="*" element={<NoPage />} />
            </Routes>
          </Suspense>
        </Boundary>
      </main>
      <Sheet open={foreign !== ""} onClose={() => setForeign("")} title="Nothing goes by this code">
        <p>
          <span className="code">{foreign}</span> is no order, shipment, tracking number, SKU or GTIN of ours.
        </p>
      </Sheet>
      {help.sheet}
    </div>
  );
}

/** `/` goes to the search field, `?` lists the keys. */
function useHelpKeys() {
  const [open, setOpen] = useState(false);
  useEffect(() => {
    const down = (e: KeyboardEvent) => {
      if ((e.target as HTMLElement).closest("input, textarea, select")) return;
      if (e.key === "?") setOpen(true);
      if (e.key === "/") {
        const field = document.querySelector<HTMLInputElement>("input[type=search]");
        if (field) {
          field.focus();
          e.preventDefault();
        }
      }
    };
    window.addEventListener("keydown", down);
    return () => window.removeEventListener("keydown", down);
  }, []);
  const rows = [
    ["/", "to the search field"],
    ["↓ ↑", "along a list"],
    ["Enter", "opens what is marked"],
    ["?", "this list"],
    ["a scan", "opens what was scanned: an order, a parcel, an item"],
  ];
  const sheet = (
    <Sheet open={open} onClose={() => setOpen(false)} title="Keys">
      <table className="ledger">
        <tbody>
          {rows.map(([k, what]) => (
            <tr key={k}>
              <td className="code w-24">{k}</td>
              <td>{what}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Sheet>
  );
  return { show: () => setOpen(true), sheet };
}

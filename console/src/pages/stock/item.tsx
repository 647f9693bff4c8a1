import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, take, type Schema } from "../../api/client";
import { Button, Empty, Head, Loading, Sheet, Trouble } from "../../parts/controls";
import { count, Kg, Money } from "../../parts/format";
import { Lamp } from "../../parts/lamp";
import { Override, overrideText } from "../../shared/goods/override";
import { ListingState } from "../../shared/goods/state";
import { Ledger, Promises } from "../../shared/goods/ledger";
import { Why } from "../../shared/goods/why";

type View = Schema<"ItemView">;

export default function ItemPage() {
  const { sku = "" } = useParams();
  const navigate = useNavigate();
  const client = useQueryClient();
  const [why, setWhy] = useState<Schema<"Listing"> | null>(null);
  const archive = useMutation({
    mutationFn: (archived: boolean) => take(api.POST("/api/v1/items/{sku}/archive", { params: { path: { sku } }, body: { archived } })),
    onSettled: () => {
      for (const k of ["item", "items"]) void client.invalidateQueries({ queryKey: [k] });
    },
  });
  const [adjust, setAdjust] = useState(false);
  const q = useQuery({ queryKey: ["item", sku], queryFn: () => take(api.GET("/api/v1/items/{sku}", { params: { path: { sku } } })) });
  if (q.isPending) return <Loading />;
  if (q.error) return <Trouble error={q.error} />;
  const v = q.data;
  return (
    <>
      <Head
        title={v.item.name}
        sub={
          <span className="flex flex-wrap gap-x-4">
            <span className="code">{v.item.sku}</span>
            {v.item.gtin && <span className="code">GTIN {v.item.gtin}</span>}
            {v.item.options && <span>{v.item.options}</span>}
            {v.item.kind !== "stocked" && <span>{v.item.kind}</span>}
            <Money minor={v.item.price ?? 0} currency={v.item.currency ?? "EUR"} />
            <Kg grams={v.item.weight_g ?? 0} />
            {v.item.marks?.map((m) => (
              <Link key={m} to={`/catalog?mark=${encodeURIComponent(m)}`} className="underline decoration-rule underline-offset-4">
                {m}
              </Link>
            ))}
          </span>
        }
      >
        <Button onClick={() => void navigate(`/items/${encodeURIComponent(sku)}/edit`)}>Edit</Button>
        <Button onClick={() => void navigate(`/publish?skus=${encodeURIComponent(sku)}`)}>Publish</Button>
        <Button onClick={() => archive.mutate(!v.item.archived)} disabled={archive.isPending}>
          {v.item.archived ? "Sell again" : "Archive"}
        </Button>
        {v.item.kind === "stocked" && <Button onClick={() => setAdjust(true)}>Adjust stock</Button>}
      </Head>
      <Trouble error={archive.error} />
      {v.barred && (
        <p className="mb-4 border-l-4 border-caution bg-sheet px-3 py-2">
          {v.barred}: it is offered nowhere. Orders that were taken in go on.
        </p>
      )}
      {(v.item.parts?.length || v.kits.length > 0) && (
        <p className="mb-4 flex flex-wrap gap-x-4">
          {v.item.parts && <span className="text-quiet">Made of</span>}
          {v.item.parts?.map((p) => (
            <span key={p.sku}>
              {p.quantity} ×{" "}
              <Link className="code underline decoration-rule underline-offset-4" to={`/items/${encodeURIComponent(p.sku)}`}>
                {p.sku}
              </Link>
            </span>
          ))}
          {v.kits.length > 0 && <span className="text-quiet">Part of</span>}
          {v.kits.map((k) => (
            <Link key={k} className="code underline decoration-rule underline-offset-4" to={`/items/${encodeURIComponent(k)}`}>
              {k}
            </Link>
          ))}
        </p>
      )}
      <div className="grid grid-cols-2 gap-x-8 gap-y-7 max-lg:grid-cols-1">
        <section>
          <h2 className="mb-1">Where it lies</h2>
          {v.levels.length === 0 && (
            <Empty>
              {v.item.kind === "stocked"
                ? "None of it lies anywhere yet."
                : v.item.kind === "kit"
                  ? "A kit lies nowhere itself; its parts do."
                  : "It holds no stock."}
            </Empty>
          )}
          {v.levels.length > 0 && (
            <table className="ledger">
              <thead>
                <tr>
                  <th>Location</th>
                  <th>Bin</th>
                  <th className="r">On hand</th>
                  <th className="r">Allocated</th>
                  <th className="r">Available</th>
                  <th className="r">Coming</th>
                </tr>
              </thead>
              <tbody>
                {v.levels.map((l) => (
                  <tr key={l.location}>
                    <td>{l.location_name}</td>
                    <td className="code">
                      {l.bins && l.bins.length > 0
                        ? l.bins.map((b) => (
                            <div key={b.bin}>
                              {b.bin || "no bin"} {(l.bins?.length ?? 0) > 1 && <span className="text-quiet">{count(b.on_hand)}</span>}
                            </div>
                          ))
                        : l.bin}
                    </td>
                    <td className="r fig">{count(l.on_hand)}</td>
                    <td className="r fig">{count(l.allocated)}</td>
                    <td className="r fig font-medium">{count(l.available)}</td>
                    <td className={`r fig ${l.on_order + l.in_transit ? "" : "text-quiet"}`}>{count(l.on_order + l.in_transit)}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
          {v.serials.length > 0 && (
            <details className="mt-2">
              <summary className="cursor-pointer">
                Serial numbers: {v.serials.filter((s) => s.state === "here").length} here,{" "}
                {v.serials.filter((s) => s.state !== "here").length} gone or packed
              </summary>
              <table className="ledger mt-1">
                <tbody>
                  {v.serials.map((s) => (
                    <tr key={s.serial}>
                      <td className="code">{s.serial}</td>
                      <td>
                        <Lamp state={s.state === "here" ? "go" : s.state === "packed" ? "busy" : "idle"}>
                          {s.state === "here" ? s.location : `${s.state} ${s.parcel ?? ""}`}
                        </Lamp>
                      </td>
                      <td className="text-quiet">{s.source}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </details>
          )}
        </section>
        <section>
          <h2 className="mb-1">Where it is listed</h2>
          {v.listings.length === 0 && <Empty>No channel lists it.</Empty>}
          {v.listings.length > 0 && (
            <table className="ledger">
              <thead>
                <tr>
                  <th>Channel</th>
                  <th>State</th>
                  <th className="r">Price</th>
                  <th className="r">Shows</th>
                  <th>Should show</th>
                </tr>
              </thead>
              <tbody>
                {v.listings.map((l) => (
                  <tr key={l.id}>
                    <td>
                      {l.url ? (
                        <a
                          href={l.url}
                          target="_blank"
                          rel="noreferrer"
                          className="underline decoration-rule underline-offset-4 hover:decoration-ink"
                        >
                          {l.connection_name}
                        </a>
                      ) : (
                        l.connection_name
                      )}
                    </td>
                    <td>
                      <ListingState state={l.state} reason={l.reason} />
                    </td>
                    <td className="r">
                      <Money minor={l.price} currency={l.currency} />
                    </td>
                    <td className="r">
                      <button
                        type="button"
                        title="Why this number?"
                        aria-label={`Why does ${l.connection_name} show ${l.shows}?`}
                        className="fig font-medium underline decoration-dotted underline-offset-4 hover:decoration-solid"
                        onClick={() => setWhy(l)}
                      >
                        {count(l.shows)}
                      </button>
                    </td>
                    <td>
                      <Lamp state={!l.on ? "idle" : l.shows === l.allowed ? "go" : "busy"}>
                        <span className="code">{count(l.allowed)}</span> {l.on ? (l.shows === l.allowed ? "" : "on its way") : "not sent"}
                      </Lamp>
                      {overrideText(l.policy) && <div className="text-[12px] text-quiet">{overrideText(l.policy)}</div>}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
        </section>
        <section>
          <h2 className="mb-1">Ledger</h2>
          <Ledger list={v.movements} />
        </section>
        <section>
          <h2 className="mb-1">Orders that hold it</h2>
          {v.promised.length === 0 ? <Empty>No open order holds any.</Empty> : <Promises list={v.promised} />}
        </section>
      </div>
      <Sheet open={why !== null} onClose={() => setWhy(null)} title="Why this number?" wide>
        {why && (
          <>
            <Why connection={why.connection} sku={why.number || why.sku} />
            <details className="mt-5 border-t border-rule pt-3">
              <summary className="cursor-pointer font-semibold">Offer it differently there</summary>
              <div className="pt-3">
                <Override listing={why} onDone={() => setWhy(null)} />
              </div>
            </details>
          </>
        )}
      </Sheet>
      <Sheet open={adjust} onClose={() => setAdjust(false)} title={`Adjust ${v.item.sku}`}>
        <Adjust view={v} onDone={() => setAdjust(false)} />
      </Sheet>
    </>
  );
}

function Adjust({ view, onDone }: { view: View; onDone: () => void }) {
  const client = useQueryClient();
  const [location, setLocation] = useState(view.levels[0]?.location ?? "");
  const [change, setChange] = useState("");
  const [reason, setReason] = useState("");
  const [key] = useState(() => crypto.randomUUID());
  const level = view.levels.find((l) => l.location === location);
  const n = Number(change);
  const save = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/v1/items/{sku}/adjust", {
          params: { path: { sku: view.item.sku }, header: { "Idempotency-Key": key + change + reason } },
          body: { location, change: n, reason },
        }),
      ),
    onSuccess: () => {
      for (const k of ["item", "stock"]) void client.invalidateQueries({ queryKey: [k] });
      onDone();
    },
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    save.mutate();
  };
  return (
    <form onSubmit={submit} className="flex flex-col gap-3">
      <label className="flex flex-col gap-1">
        <span className="text-quiet">Location</span>
        <select className="field" value={location} onChange={(e) => setLocation(e.target.value)}>
          {view.levels.map((l) => (
            <option key={l.location} value={l.location}>
              {l.location_name}
            </option>
          ))}
        </select>
      </label>
      <label className="flex flex-col gap-1">
        <span className="text-quiet">Units added, or taken away with a minus</span>
        <input
          className="field fig"
          inputMode="numeric"
          pattern="[+-]?[0-9]+"
          required
          value={change}
          onChange={(e) => setChange(e.target.value.replace("−", "-"))}
        />
      </label>
      <label className="flex flex-col gap-1">
        <span className="text-quiet">Why</span>
        <input
          className="field"
          required
          value={reason}
          onChange={(e) => setReason(e.target.value)}
          placeholder="broken, found, returned …"
        />
      </label>
      {level && n !== 0 && !Number.isNaN(n) && (
        <p>
          On hand at {level.location_name}: <span className="code">{level.on_hand}</span> →{" "}
          <span className="code font-medium">{level.on_hand + n}</span>
        </p>
      )}
      <Trouble error={save.error} />
      <Button kind="main" type="submit" disabled={save.isPending || !n}>
        Adjust
      </Button>
    </form>
  );
}

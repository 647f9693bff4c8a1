import { namedCarriersQuery, parcelQuery, profilesQuery } from "../../api/queries";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, Navigate, useNavigate, useParams } from "react-router";
import { api, Problem, take, type Schema } from "../../api/client";
import { Insurance } from "./insurance";
import { Button, Empty, Head, Loading, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import { dayText, decimal, Kg, Money, When } from "../../parts/format";
import { commandOf } from "../../parts/commands";
import { bare, productOf } from "../../parts/gs1";
import { Lamp, LampShape } from "../../parts/lamp";
import { ScanField, sound, Verdict, type Said } from "../../parts/scanner";
import { PrintButton } from "../../shared/goods/printbutton";
import { CarrierRefused } from "./correct";
import { CartonChoice, GoOn, Serials, useCarton, WeightField, type Word } from "./carton";
import { OnItsWay } from "./onitsway";
import { JourneyLamp, ParcelState } from "./state";
import { VoidLabel } from "./void";

type View = Schema<"ParcelView">;

/** What is declared of a parcel that crosses a customs border, and its papers. */
function AcrossTheBorder({ number, customs: d }: { number: string; customs: NonNullable<View["customs"]> }) {
  return (
    <section aria-label="Across the border">
      <h2 className="mb-1">Across the border</h2>
      {d.lacks ? (
        <Lamp state="stop">{d.lacks}</Lamp>
      ) : (
        <p>
          {d.lines?.length} {d.lines?.length === 1 ? "line" : "lines"}, <Money minor={d.value} currency={d.currency} />, {d.reason},{" "}
          {d.terms}
        </p>
      )}
      <p className="flex flex-wrap gap-x-4">
        {[
          ["invoice", "Invoice"],
          ["cn22", "CN 22"],
          ["cn23", "CN 23"],
        ].map(([form, name]) => (
          <a
            key={form}
            className="flex min-h-12 items-center underline decoration-rule underline-offset-4 hover:decoration-ink"
            href={`/api/v1/parcels/${number}/customs.pdf?form=${form}`}
            target="_blank"
            rel="noreferrer"
          >
            {name}
          </a>
        ))}
      </p>
    </section>
  );
}

export default function Parcel() {
  const { number = "" } = useParams();
  const client = useQueryClient();
  const q = useQuery(parcelQuery(number));
  if (q.isPending) return <Loading />;
  if (q.error instanceof Problem && q.error.status === 404) return <Navigate to={`/pack/${number}`} replace />;
  if (q.error) return <Trouble error={q.error} />;
  const s = q.data;
  const gone = s.state === "shipped" || s.state === "delivered";
  return (
    <>
      <Head
        title={
          <>
            Parcel <span className="font-mono">{s.number}</span>
          </>
        }
        sub={
          <span className="flex flex-wrap items-center gap-x-4">
            {s.journey ? <JourneyLamp journey={s.journey} /> : <ParcelState state={s.state} />}
            <span>
              order{" "}
              <Link to={`/orders/${s.order_number}`} className="code underline decoration-rule underline-offset-4 hover:decoration-ink">
                {s.order_number}
              </Link>{" "}
              from {s.location}
            </span>
          </span>
        }
      />
      {s.error && s.state === "packed" && !s.carton && (
        <CarrierRefused key={s.error} s={s} onDone={() => void client.invalidateQueries()} />
      )}
      {s.error && s.state !== "packed" && (
        <div className="mb-4 flex items-start gap-2 border-l-4 border-stop bg-sheet px-3 py-2" role="alert">
          <span className="pt-0.5">
            <LampShape state="stop" />
          </span>
          <span>
            {gone
              ? `The label is not voided: ${s.error}`
              : `${s.error}. It is asked for again under the same reference; nothing else is bought until that is known.`}
          </span>
        </div>
      )}
      <div className="grid grid-cols-[minmax(0,1fr)_300px] gap-8 max-lg:grid-cols-1">
        <div className="flex min-w-0 flex-col gap-7">
          {s.carton ? (
            <Travels s={s} />
          ) : gone ? (
            <Sent key={s.number} s={s} />
          ) : s.state === "called off" ? (
            <Empty>
              This parcel was unpacked or called off.{" "}
              <Link className="underline decoration-rule underline-offset-4 hover:decoration-ink" to={`/pack/${s.shipment}`}>
                To its shipment
              </Link>
            </Empty>
          ) : (
            <Work s={s} />
          )}
        </div>
        <aside className="flex flex-col gap-5">
          <section>
            <h2 className="mb-1">To</h2>
            <address className="not-italic">
              {[
                s.ship_to.name,
                s.ship_to.company,
                s.ship_to.street,
                s.ship_to.extra,
                `${s.ship_to.postcode} ${s.ship_to.town}`,
                s.ship_to.country,
              ]
                .filter(Boolean)
                .map((l) => (
                  <div key={l}>{l}</div>
                ))}
            </address>
            <p className="mt-1 text-[12px] text-quiet">Wished delivery: {s.requested_service || "none"}</p>
          </section>
          <section>
            <h2 className="mb-1">Packing slip</h2>
            <p className="flex flex-wrap gap-x-4">
              {[
                ["", "Without prices"],
                ["?prices=yes", "With prices"],
              ].map(([query, name]) => (
                <a
                  key={name}
                  className="flex min-h-12 items-center underline decoration-rule underline-offset-4 hover:decoration-ink"
                  href={`/api/v1/parcels/${s.number}/packing-slip.pdf${query}`}
                  target="_blank"
                  rel="noreferrer"
                >
                  {name}
                </a>
              ))}
            </p>
          </section>
          {s.customs && <AcrossTheBorder number={s.number} customs={s.customs} />}
          <section>
            <h2 className="mb-1">In it</h2>
            <Contents list={s.contents} />
          </section>
          {s.inside.map((x) => (
            <section key={x.number} aria-label={`Of order ${x.order_number}`}>
              <h2 className="mb-1">
                And of order{" "}
                <Link to={`/orders/${x.order_number}`} className="code underline decoration-rule underline-offset-4 hover:decoration-ink">
                  {x.order_number}
                </Link>
              </h2>
              <Contents list={x.contents} />
            </section>
          ))}
        </aside>
      </div>
    </>
  );
}

function Contents({ list }: { list: View["contents"] }) {
  return (
    <table className="ledger">
      <tbody>
        {list.map((w) => (
          <tr key={w.sku}>
            <td>
              {w.name}
              <div className="code text-quiet">{w.sku}</div>
            </td>
            <td className="r fig">{w.quantity}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** What travels in another parcel's carton: label, price and carrier's list are that one's. */
function Travels({ s }: { s: View }) {
  const client = useQueryClient();
  const unpack = useMutation({
    mutationFn: () => take(api.POST("/api/v1/parcels/{number}/unpack", { params: { path: { number: s.number } } })),
    onSuccess: () => {
      for (const key of ["parcel", "shipment"]) void client.invalidateQueries({ queryKey: [key] });
    },
  });
  return (
    <section>
      <p className="mb-3 text-[16px]">
        It travels in the carton of parcel{" "}
        <Link to={`/parcels/${s.carton}`} className="code underline decoration-rule underline-offset-4 hover:decoration-ink">
          {s.carton}
        </Link>
        {s.tracking && (
          <>
            {" "}
            with the number <span className="code">{s.tracking}</span>
          </>
        )}
        . Its channel hears of its own order.
      </p>
      <Trouble error={unpack.error} />
      {s.state === "packed" && (
        <Button large disabled={unpack.isPending} onClick={() => unpack.mutate()}>
          Take it out
        </Button>
      )}
    </section>
  );
}

/** What of a carton has serial numbers, of all orders in it. */
function withSerials(s: View) {
  const of = new Map<string, number>();
  for (const w of [s.contents, ...s.inside.map((x) => x.contents)].flat()) {
    if (w.serials) of.set(w.sku, (of.get(w.sku) ?? 0) + w.quantity);
  }
  return [...of].map(([sku, quantity]) => ({ sku, quantity }));
}

function Work({ s }: { s: View }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const number = s.number;
  const profiles = useQuery(profilesQuery);
  const carton = useCarton();
  const refresh = () => {
    for (const key of ["parcel", "rates"]) void client.invalidateQueries({ queryKey: [key, number] });
    void client.invalidateQueries({ queryKey: ["shipment"] });
  };
  const pack = useMutation({
    mutationFn: ({ profile, word }: { profile: string; word?: Word }) =>
      take(api.POST("/api/v1/parcels/{number}/repack", { params: { path: { number } }, body: carton.body(profile, word) })),
    onSuccess: refresh,
  });
  const unpack = useMutation({
    mutationFn: () => take(api.POST("/api/v1/parcels/{number}/unpack", { params: { path: { number } } })),
    onSuccess: () => {
      refresh();
      void navigate(`/pack/${s.shipment}`);
    },
  });
  const rates = useRates(s);
  const ship = useShip(number, refresh);
  const [tracking, setTracking] = useState("");
  const { said, scan } = useParcelScan(s, unpack.mutate, setTracking, refresh);
  return (
    <>
      {s.state === "packed" && !s.wrong_field?.startsWith("to.") && (
        <div>
          <ScanField placeholder="Scan “Done”, a number, or what comes out" busy={ship.isPending} onScan={scan} />
          <Verdict said={said} />
        </div>
      )}
      <section>
        <div className="mb-2 flex items-baseline justify-between">
          <h2>1 · Carton</h2>
          {s.state === "packed" && (
            <Button kind="quiet" large disabled={unpack.isPending} onClick={() => unpack.mutate()}>
              Unpack
            </Button>
          )}
        </div>
        <Trouble error={pack.error ?? unpack.error} />
        <GoOn
          error={pack.error}
          onWord={(word) => pack.variables && pack.mutate({ ...pack.variables, word: { ...pack.variables.word, ...word } })}
        />
        <Serials of={withSerials(s)} carton={carton} />
        <CartonChoice
          profiles={profiles.data ?? []}
          chosen={s.profile}
          busy={pack.isPending || s.state !== "packed"}
          onChoose={(profile) => pack.mutate({ profile })}
        />
        <WeightField carton={carton}>
          {s.profile && (
            <Button large onClick={() => pack.mutate({ profile: s.profile as string })} disabled={pack.isPending || !carton.weight}>
              Take this weight
            </Button>
          )}
          {s.weight_g > 0 && (
            <span>
              now <Kg grams={s.weight_g} />
            </span>
          )}
        </WeightField>
      </section>
      <Rates s={s} rates={rates} ship={ship} onDone={refresh} />
      {s.state === "packed" && <TypedNumber key={tracking} number={number} scanned={tracking} onDone={refresh} />}
    </>
  );
}

type Rate = Schema<"RelayRate">;

/** What the carriers ask for a parcel, what a rule chose first, then the cheapest. */
const useRates = (s: View) =>
  useQuery({
    queryKey: ["rates", s.number, s.weight_g, s.profile],
    queryFn: () => take(api.GET("/api/v1/parcels/{number}/rates", { params: { path: { number: s.number } } })),
    select: (list) => {
      const chosen = (r: Rate) => Number(r.service === s.decided_service && !r.refused);
      return [...list].sort((a, b) => chosen(b) - chosen(a));
    },
  });

function useShip(number: string, onDone: () => void) {
  return useMutation({
    mutationFn: (r: Rate) =>
      take(
        api.POST("/api/v1/parcels/{number}/ship", {
          params: { path: { number }, header: { "Idempotency-Key": `${number} ${crypto.randomUUID()}` } },
          body: { carrier: r.carrier, service: r.service, expected: r.estimated ? undefined : r.price },
        }),
      ),
    onSettled: onDone,
  });
}

/** A parcel by scan alone: “Done” ships it, “Take back” unpacks it, a product comes out of it, and anything else is a number of a label. */
function useParcelScan(s: View, unpack: () => void, onNumber: (text: string) => void, onDone: () => void) {
  const [said, setSaid] = useState<Said | null>(null);
  const say = (good: boolean, text: string) => {
    setSaid({ good, text });
    sound(good);
  };
  const out = useMutation({
    mutationFn: (sku: string) =>
      take(api.POST("/api/v1/parcels/{number}/take-out", { params: { path: { number: s.number } }, body: { units: { [sku]: 1 } } })),
    onSuccess: (_, sku) => {
      say(true, `One ${sku} taken out; it lies at the bench`);
      onDone();
    },
    onError: (e) => say(false, (e as Problem).detail),
  });
  /** By what a rule chose or the buyer was promised, else the cheapest: the service decides, so that nothing is sent slower. */
  const ship = useMutation({
    mutationFn: () => take(api.POST("/api/v1/parcels/actions", { body: { action: "ship parcels", parcels: [s.number] } })),
    onSuccess: (d) => {
      const r = d.results[0];
      say(r?.state !== "refused", r?.text ?? "");
      onDone();
    },
    onError: (e) => say(false, (e as Problem).detail),
  });
  const scan = (code: string) => {
    const product = productOf(code).toLowerCase();
    const inIt = [s.contents, ...s.inside.map((x) => x.contents)].flat();
    const item = inIt.find((w) => w.sku.toLowerCase() === product || (!!w.gtin && bare(w.gtin) === bare(productOf(code))));
    switch (commandOf(code)) {
      case "done":
        return ship.mutate();
      case "back":
        return unpack();
      case "next":
        return say(false, "It is packed; “Done” ships it");
    }
    if (item) return out.mutate(item.sku);
    onNumber(code);
    say(true, `Number ${code}: choose its carrier`);
  };
  return { said, scan };
}

function Rates({
  s,
  rates: q,
  ship,
  onDone,
}: {
  s: View;
  rates: ReturnType<typeof useRates>;
  ship: ReturnType<typeof useShip>;
  onDone: () => void;
}) {
  const [why, setWhy] = useState("");
  const consign = useMutation({
    mutationFn: (r: Rate) =>
      take(
        api.POST("/api/v1/shipments/{number}/ship", {
          params: { path: { number: s.shipment }, header: { "Idempotency-Key": `${s.shipment} ${crypto.randomUUID()}` } },
          body: { carrier: r.carrier, service: r.service },
        }),
      ),
    onSettled: onDone,
  });
  const busy = ship.isPending || consign.isPending || s.state === "buying label";
  return (
    <section>
      <h2 className="mb-2">2 · Service</h2>
      <Trouble error={ship.error ?? consign.error ?? q.error} />
      {s.state === "packed" && <Insurance s={s} onDone={onDone} />}
      {q.isPending && <p className="text-quiet">Asking the carriers …</p>}
      {q.data && (
        <table className="ledger" data-testid="rates">
          <thead>
            <tr>
              <th>Service</th>
              <th className="r">Price</th>
              <th>Arrives</th>
              <th>Our own sum</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {q.data.map((r, i) => (
              <tr key={r.carrier + r.service} className={r.refused ? "text-quiet" : ""}>
                <td>
                  <span className={i === 0 ? "font-medium" : ""}>{r.service_name || r.carrier_name}</span>
                  <div className="text-[12px] text-quiet">
                    {r.carrier_name}
                    {r.best.length > 0 && <strong> · {r.best.map((b) => (b === "decided" ? "as decided" : b)).join(", ")}</strong>}
                  </div>
                </td>
                <td className="r">{r.refused ? "" : <Money minor={r.price} currency={r.currency} />}</td>
                <td>
                  {r.refused ? `not carried: ${r.refused}` : r.arrives ? dayText(r.arrives) : ""}
                  {r.late && (
                    <div>
                      <Lamp state="caution">after the promised day</Lamp>
                    </div>
                  )}
                  {!r.refused && r.handover && <div className="text-[12px] text-quiet">goes along {dayText(r.handover)}</div>}
                </td>
                <td>
                  {!r.refused && r.terms && (
                    <>
                      <button
                        type="button"
                        className="underline decoration-rule underline-offset-4"
                        onClick={() => setWhy(why === r.service ? "" : r.service)}
                      >
                        <Lamp state={r.agrees ? "go" : "caution"}>{r.estimated ? "estimated" : r.agrees ? "agrees" : "differs"}</Lamp>
                      </button>
                      {why === r.service && (
                        <div className="code mt-1">
                          {r.terms.map((t) => (
                            <div key={t.text} className="flex justify-between gap-3">
                              <span>{t.text}</span>
                              <span>{decimal(t.price, r.currency)}</span>
                            </div>
                          ))}
                        </div>
                      )}
                    </>
                  )}
                </td>
                <td className="r">
                  {!r.refused && (
                    <Button large kind={i === 0 ? "main" : "plain"} disabled={busy} onClick={() => ship.mutate(r)}>
                      {busy ? "Buying …" : "Ship"}
                    </Button>
                  )}
                  {!r.refused && r.consigns && s.packed_beside > 0 && (
                    <Button large kind="quiet" disabled={busy} onClick={() => consign.mutate(r)}>
                      All {s.packed_beside + 1} under one number
                    </Button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  );
}

/** A label that was bought elsewhere, at a carrier that is only named: its number is typed. */
function TypedNumber({ number, left, scanned, onDone }: { number: string; left?: boolean; scanned?: string; onDone: () => void }) {
  const carriers = useQuery(namedCarriersQuery);
  const list = carriers.data?.filter((c) => !c.archived_at) ?? [];
  const [carrier, setCarrier] = useState("");
  const [tracking, setTracking] = useState(scanned ?? "");
  const type = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/v1/parcels/{number}/typed", {
          params: { path: { number }, header: { "Idempotency-Key": `${number} ${crypto.randomUUID()}` } },
          body: { carrier: carrier || (list[0]?.code ?? ""), number: tracking },
        }),
      ),
    onSuccess: onDone,
  });
  if (list.length === 0) return null;
  return (
    <section aria-label="A number from elsewhere">
      <h2 className="mb-2">{left ? "Correct the number" : "Or a number from elsewhere"}</h2>
      {left && <p className="mb-2 text-quiet">Nothing ships again; the channel is told the other number.</p>}
      <Trouble error={type.error} />
      <form
        className="flex flex-wrap items-end gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          type.mutate();
        }}
      >
        <Labelled label="Carrier">
          <select className="field min-h-12" value={carrier || list[0]?.code} onChange={(e) => setCarrier(e.target.value)}>
            {list.map((c) => (
              <option key={c.code} value={c.code}>
                {c.name}
              </option>
            ))}
          </select>
        </Labelled>
        <Labelled label="Tracking number">
          <input
            className="field code min-h-12 w-72"
            required
            minLength={3}
            maxLength={80}
            placeholder="Scan or type it"
            value={tracking}
            onChange={(e) => setTracking(e.target.value)}
          />
        </Labelled>
        <Button large type="submit" disabled={type.isPending || tracking.trim().length < 3}>
          {left ? "This is the number" : "It leaves with this number"}
        </Button>
      </form>
    </section>
  );
}

function Sent({ s }: { s: View }) {
  const client = useQueryClient();
  const label = `/api/v1/parcels/${s.number}/label.pdf`;
  const order = useQuery({
    queryKey: ["order", s.order_number],
    queryFn: () => take(api.GET("/api/v1/orders/{number}", { params: { path: { number: s.order_number } } })),
  });
  const back = order.data && [...order.data.write_backs].reverse().find((w) => w.feed === "dispatch out" && w.subject.endsWith(s.number));
  const [printed, setPrinted] = useState(false);
  const link = "inline-flex min-h-9 items-center rounded-[3px] border px-4";
  return (
    <>
      <section>
        <h2 className="mb-1">Tracking number</h2>
        <a
          href={s.tracking_url}
          target="_blank"
          rel="noreferrer"
          className="font-mono text-[26px] leading-9 hover:underline"
          data-testid="tracking"
        >
          {s.tracking}
        </a>
        <p className="text-quiet">
          {[s.carrier, s.service_name].filter(Boolean).join(", ")}, <Kg grams={s.weight_g} />
          {s.currency && (
            <>
              , <Money minor={s.price} currency={s.currency} />
            </>
          )}{" "}
          · shipped <When at={s.shipped_at} />
          {s.charged_by && (
            <>
              {" "}
              · charged <Money minor={s.charged} currency={s.currency ?? ""} /> by {s.charged_by}
            </>
          )}
        </p>
      </section>
      <section className="flex flex-wrap items-center gap-3">
        {!!s.manifest_id && (
          <>
            <a
              className={`${link} ${printed ? "border-rule bg-sheet" : "border-ink bg-ink text-paper"}`}
              href={`${label}?size=label`}
              target="_blank"
              rel="noreferrer"
              onClick={() => setPrinted(true)}
            >
              Label 100 × 150 mm
            </a>
            <a className={`${link} border-rule bg-sheet hover:border-ink`} href={`${label}?size=a4`} target="_blank" rel="noreferrer">
              Labels on A4
            </a>
            <PrintButton paper="label" numbers={[s.number]} name="Print the label" />
            {s.label_form && (
              <a className={`${link} border-rule bg-sheet hover:border-ink`} href={`/api/v1/parcels/${s.number}/carrier-label`}>
                {`The carrier's own label (${s.label_form.toUpperCase()})`}
              </a>
            )}
            <a
              className={`${link} border-rule bg-sheet hover:border-ink`}
              href={`/api/v1/manifests/${s.manifest_id}/manifest.pdf`}
              target="_blank"
              rel="noreferrer"
            >
              Manifest of the day
            </a>
          </>
        )}
        <Link className="underline decoration-rule underline-offset-4 hover:decoration-ink" to="/picking">
          Next order
        </Link>
      </section>
      <section>
        <h2 className="mb-1">Told to the channel</h2>
        {back ? (
          <p data-testid="write-back">
            <Lamp state={back.state === "confirmed" ? "go" : back.state === "refused" ? "stop" : "busy"}>{back.state}</Lamp> by{" "}
            {back.connection_name} <When at={back.confirmed_at ?? back.sent_at} />
            {back.error && <span className="block text-stop">{back.error}</span>}
          </p>
        ) : (
          <p className="text-quiet">Waiting to be sent</p>
        )}
      </section>
      <OnItsWay s={s} />
      <VoidLabel key={`void ${s.tracking}`} parcel={s} />
      {s.typed && <TypedNumber key={s.tracking} number={s.number} left onDone={() => void client.invalidateQueries()} />}
      <section>
        <h2 className="mb-1">Numbers</h2>
        <p className="code">SSCC {s.sscc}</p>
      </section>
    </>
  );
}

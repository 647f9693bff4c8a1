import { profilesQuery, shipmentQuery } from "../../api/queries";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, take, type Schema } from "../../api/client";
import { Button, Empty, Head, Loading, Trouble } from "../../parts/controls";
import { commandOf } from "../../parts/commands";
import { Kg } from "../../parts/format";
import { bare, productOf } from "../../parts/gs1";
import { ScanField, sound, Verdict, type Said } from "../../parts/scanner";
import { Stepper } from "../../parts/stepper";
import { Companions } from "../../shared/together/companions";
import { Proposal, useProposal } from "./proposal";
import { CartonChoice, GoOn, Serials, useCarton, WeightField } from "./carton";
import { ParcelState } from "./state";

type View = Schema<"ShipmentView">;
type Want = View["wants"][number];
/** What is to be packed of an item, of all orders that travel together. */
type Row = Pick<Want, "item_id" | "sku" | "gtin" | "title" | "kit_sku" | "serials" | "quantity" | "picked" | "packed"> & { orders: string };

/** Units by SKU that go into the next parcel; null: all that is left. */
type Counted = Record<string, number> | null;

const toPack = (w: Pick<Want, "picked" | "packed">) => w.picked - w.packed;

/** Changes with what is packed of a shipment and of those that travel with it, and with who they are. */
const packedOf = (s: View) => [s, ...s.together].flatMap((x) => x.wants).reduce((n, w) => n + w.packed, s.together.length);

/** Adds up what a shipment and those that travel with it want, each item once. */
function rowsOf(s: View): Row[] {
  const rows = new Map<number, Row>();
  for (const part of [s, ...s.together]) {
    for (const w of part.wants) {
      const row = rows.get(w.item_id);
      const of = `${w.quantity} for ${part.order_number}`;
      if (!row) rows.set(w.item_id, { ...w, orders: of });
      else
        rows.set(w.item_id, {
          ...row,
          quantity: row.quantity + w.quantity,
          picked: row.picked + w.picked,
          packed: row.packed + w.packed,
          orders: `${row.orders}, ${of}`,
        });
    }
  }
  return [...rows.values()];
}

/** Where a shipment is packed: into one parcel, or into several, each with the units that were scanned for it. */
export default function Bench() {
  const { number = "" } = useParams();
  const q = useQuery(shipmentQuery(number));
  if (q.isPending) return <Loading />;
  if (q.error) return <Trouble error={q.error} large />;
  return <Packing key={q.data.number} s={q.data} />;
}

function Packing({ s }: { s: View }) {
  const wants = rowsOf(s);
  const unpicked = wants.reduce((n, w) => n + w.quantity - w.picked, 0);
  const unpacked = wants.reduce((n, w) => n + toPack(w), 0);
  const [counted, setCounted] = useState<Counted>(null);
  const [proposed, setProposed] = useState("");
  const layOut = (profile: string, units: Record<string, number>) => {
    setCounted(units);
    setProposed(profile);
  };
  const unpickedOf = [s, ...s.together].filter((x) => x.wants.some((w) => w.picked < w.quantity));
  const notes = [s, ...s.together].filter((x) => x.note ?? x.gift_note);
  return (
    <>
      <Head
        title={
          <>
            Pack <span className="font-mono">{s.number}</span>
          </>
        }
        sub={
          <span>
            order{" "}
            <Link to={`/orders/${s.order_number}`} className="code underline decoration-rule underline-offset-4 hover:decoration-ink">
              {s.order_number}
            </Link>{" "}
            from {s.location} · {s.packed} of {s.quantity} packed
          </span>
        }
      />
      {notes.map((x) => (
        <p key={x.number} className="mb-3 border-l-4 border-busy bg-sheet px-3 py-2 text-[16px]">
          {s.together.length > 0 && <span className="code">{x.order_number} </span>}
          {x.note && <>Note: {x.note} </>}
          {x.gift_note && <>Gift note: {x.gift_note}</>}
        </p>
      ))}
      <div className="grid grid-cols-[minmax(0,1fr)_340px] gap-8 max-lg:grid-cols-1">
        <div className="flex min-w-0 flex-col gap-6">
          {unpicked > 0 && (
            <p className="border-l-4 border-caution bg-sheet px-3 py-2">
              {unpicked} units are still to be picked.{" "}
              {unpickedOf.map((x) => (
                <Link
                  key={x.number}
                  className="mr-3 inline-flex min-h-12 items-center underline decoration-rule underline-offset-4 hover:decoration-ink"
                  to={`/pick/${x.number}`}
                >
                  Go on picking {s.together.length > 0 && x.order_number}
                </Link>
              ))}
            </p>
          )}
          {s.state === "called off" ? (
            <Empty>This shipment was called off. What was picked goes back to its bins.</Empty>
          ) : unpacked > 0 ? (
            <NextParcel
              s={s}
              wants={wants}
              unpicked={unpicked}
              counted={counted}
              setCounted={setCounted}
              proposed={proposed}
              layOut={layOut}
            />
          ) : (
            unpicked === 0 && <AllPacked s={s} />
          )}
        </div>
        <aside className="flex flex-col gap-6">
          <Companions order={s.order_number} large />
          <Parcels list={[s, ...s.together].flatMap((x) => x.parcels)} />
          {unpacked + unpicked > 0 && s.state !== "called off" && (
            <Proposed s={s} onPack={layOut} serials={wants.filter((w) => w.serials).map((w) => w.sku)} />
          )}
        </aside>
      </div>
    </>
  );
}

/** Packs into a new parcel, and goes on to it where it is the only one. */
function usePack(s: View, onPacked: () => void) {
  const client = useQueryClient();
  const navigate = useNavigate();
  return useMutation({
    mutationFn: (body: Schema<"Packing">) =>
      take(api.POST("/api/v1/shipments/{number}/pack", { params: { path: { number: s.number } }, body })),
    onSuccess: (now) => {
      client.setQueryData(shipmentQuery(s.number).queryKey, now);
      onPacked();
      sound(true);
      const only = now.parcels.filter((p) => p.state !== "called off");
      if (now.state === "packed" && only.length === 1) void navigate(`/parcels/${only[0]?.number}`);
    },
    onError: () => sound(false),
  });
}

interface Next {
  s: View;
  wants: Row[];
  unpicked: number;
  counted: Counted;
  setCounted: (c: Counted) => void;
  proposed: string; // code of the carton that was proposed for what is counted
  layOut: (profile: string, units: Record<string, number>) => void;
}

/** All lies in parcels: a scan of one opens it, and the command "done" opens the next that has no label. */
function AllPacked({ s }: { s: View }) {
  const navigate = useNavigate();
  const [said, setSaid] = useState<Said | null>(null);
  const scan = (code: string) => {
    const cartons = s.parcels.filter((p) => p.state !== "called off");
    const parcel =
      commandOf(code) === "done"
        ? (cartons.find((p) => p.state === "packed") ?? cartons[0])
        : cartons.find((p) => p.number.toLowerCase() === code.toLowerCase());
    if (parcel) return void navigate(`/parcels/${parcel.carton ?? parcel.number}`);
    setSaid({ good: false, text: `“${code}” is none of its parcels` });
    sound(false);
  };
  return (
    <>
      <ScanField placeholder="Scan a parcel, or “Done”" onScan={scan} />
      <Verdict said={said} />
      <Empty>All of it lies in parcels.</Empty>
    </>
  );
}

function NextParcel({ s, wants, unpicked, counted, setCounted, proposed, layOut }: Next) {
  const proposal = useProposal(s.number, packedOf(s));
  const [last, setLast] = useState<Row | null>(null); // what was scanned last
  const profiles = useQuery(profilesQuery);
  const carton = useCarton();
  const [said, setSaid] = useState<Said | null>(null);
  const pack = usePack(s, () => {
    setCounted(null);
    setSaid(null);
    carton.clear();
  });
  const units = () => (counted && moreThanNone(counted)) ?? (unpicked > 0 ? allOf(wants) : undefined);
  const packInto = (profile: string) => pack.mutate({ ...carton.body(profile), units: units() });
  const open = [s, ...s.together].flatMap((x) => x.parcels).filter((p) => p.state === "packed" && !p.carton);
  const put = (w: Row, n: number) => setCounted({ ...counted, [w.sku]: n });
  const wrong = (text: string) => {
    setSaid({ good: false, text });
    sound(false);
  };
  /** The next carton, without a hand: what was scanned goes into the proposed one; where nothing was, it is packed as proposed. */
  const nextCarton = () => {
    const first = proposal.data?.cartons[0];
    const profile = (counted && proposed) || s.decided_profile || first?.profile.code;
    if (!profile) return wrong("No carton is proposed; scan one");
    if (counted || !first) return packInto(profile);
    if (wants.some((w) => w.serials && first.units[w.sku])) {
      layOut(first.profile.code, first.units);
      return wrong("Its serial numbers are scanned first");
    }
    pack.mutate({ ...carton.body(first.profile.code), units: first.units });
  };
  const scan = (code: string) => {
    switch (commandOf(code)) {
      case "next":
        return nextCarton();
      case "done":
        return wrong(`${rows.reduce((n, w) => n + toPack(w), 0)} units lie in no parcel yet`);
      case "back": {
        const n = counted?.[last?.sku ?? ""] ?? 0;
        if (!last || n < 1) return wrong("Nothing was scanned here that could be taken back");
        put(last, n - 1);
        setSaid({ good: true, text: `${last.title}: ${n - 1} in this parcel` });
        return sound(true);
      }
    }
    const profile = profiles.data?.find((p) => p.code.toLowerCase() === code.toLowerCase());
    if (profile) return packInto(profile.code);
    const product = productOf(code);
    const w = wants.find((x) => x.sku.toLowerCase() === product.toLowerCase() || (!!x.gtin && bare(x.gtin) === bare(product)));
    const n = (counted?.[w?.sku ?? ""] ?? 0) + 1;
    if (!w || n > toPack(w)) {
      setSaid({ good: false, text: w ? `${w.sku}: no more of it is left to pack` : `“${code}” is not in this shipment` });
      return sound(false);
    }
    put(w, n);
    setLast(w);
    setSaid({ good: true, text: `${w.title}: ${n} in this parcel` });
    sound(true);
  };
  const rows = wants.filter((w) => toPack(w) > 0);
  const inIt = (w: Row) => (counted ? (counted[w.sku] ?? 0) : toPack(w));
  return (
    <>
      <ScanField placeholder="Scan what goes into this parcel, or a carton" busy={pack.isPending} onScan={scan} />
      <Verdict said={said} />
      <section aria-label="In this parcel">
        <div className="mb-1 flex items-baseline justify-between">
          <h2>{counted ? "In this parcel" : "All that is left goes into one parcel"}</h2>
          {counted ? (
            <Button kind="quiet" onClick={() => setCounted(null)}>
              All that is left
            </Button>
          ) : (
            <Button kind="quiet" onClick={() => setCounted({})}>
              Only some units
            </Button>
          )}
        </div>
        <ul className="border-t border-ink text-[16px]">
          {rows.map((w) => (
            <li key={w.item_id} className="flex min-h-14 items-center gap-4 border-b border-rule py-1">
              <span className="min-w-0 flex-1">
                <span className="block">{w.title}</span>
                <span className="code text-quiet">
                  {w.sku} {w.kit_sku && `part of ${w.kit_sku}`} {s.together.length > 0 && w.orders}
                </span>
              </span>
              {counted ? (
                <Stepper large of={w.sku} value={inIt(w)} most={toPack(w)} onChange={(n) => put(w, n)} />
              ) : (
                <span className="fig text-[20px]">{toPack(w)}</span>
              )}
            </li>
          ))}
        </ul>
      </section>
      <section aria-label="Carton">
        <h2 className="mb-2">Carton</h2>
        <Serials of={rows.filter((w) => w.serials && inIt(w) > 0).map((w) => ({ sku: w.sku, quantity: inIt(w) }))} carton={carton} />
        <Trouble error={pack.error ?? profiles.error} />
        <GoOn error={pack.error} onWord={(word) => pack.variables && pack.mutate({ ...pack.variables, ...word })} />
        <CartonChoice
          profiles={profiles.data ?? []}
          decided={(counted && proposed) || s.decided_profile}
          busy={pack.isPending || rows.every((w) => inIt(w) === 0)}
          onChoose={packInto}
        />
        <WeightField carton={carton} />
        {open.map((p) => (
          <Button
            key={p.number}
            large
            className="mt-3"
            disabled={pack.isPending || rows.every((w) => inIt(w) === 0)}
            onClick={() => pack.mutate({ ...carton.body(), units: units(), into: p.number })}
          >
            Put it into {p.number}
          </Button>
        ))}
      </section>
    </>
  );
}

/** The proposal for what is left. What has serial numbers is laid out for its carton, so that they are scanned before it is packed. */
function Proposed({
  s,
  serials,
  onPack,
}: {
  s: View;
  serials: string[];
  onPack: (profile: string, units: Record<string, number>) => void;
}) {
  const pack = usePack(s, () => undefined);
  const packSo = (profile: string, units: Record<string, number>) =>
    Object.keys(units).some((sku) => serials.includes(sku)) ? onPack(profile, units) : pack.mutate({ profile, units });
  return (
    <>
      <Trouble error={pack.error} />
      <Proposal number={s.number} packed={packedOf(s)} busy={pack.isPending} onPack={packSo} />
    </>
  );
}

/** What was counted, without what was taken out again. */
const moreThanNone = (units: Record<string, number>) => Object.fromEntries(Object.entries(units).filter(([, n]) => n > 0));

function allOf(wants: Row[]): Record<string, number> {
  return Object.fromEntries(wants.filter((w) => toPack(w) > 0).map((w) => [w.sku, toPack(w)]));
}

function Parcels({ list }: { list: Schema<"Parcel">[] }) {
  const client = useQueryClient();
  const unpack = useMutation({
    mutationFn: (number: string) => take(api.POST("/api/v1/parcels/{number}/unpack", { params: { path: { number } } })),
    onSettled: () => client.invalidateQueries({ queryKey: ["shipment"] }),
  });
  const live = list.filter((p) => p.state !== "called off");
  if (live.length === 0) return null;
  return (
    <section aria-label="Its parcels">
      <h2 className="mb-1">Its parcels</h2>
      <Trouble error={unpack.error} />
      <ul className="border-t border-ink">
        {live.map((p) => (
          <li key={p.number} className="flex items-start justify-between gap-3 border-b border-rule py-2">
            <div>
              <Link
                to={`/parcels/${p.number}`}
                className="code font-medium underline decoration-rule underline-offset-4 hover:decoration-ink"
              >
                {p.number}
              </Link>
              <div>
                <ParcelState state={p.state} /> {p.carton ? `in the carton of ${p.carton}, ` : ""}
                {p.quantity} units{p.weight_g > 0 && <>, </>}
                {p.weight_g > 0 && <Kg grams={p.weight_g} />}
              </div>
              {p.tracking && <div className="code text-quiet">{p.tracking}</div>}
            </div>
            {p.state === "packed" && (
              <Button kind="quiet" aria-label={`Unpack ${p.number}`} disabled={unpack.isPending} onClick={() => unpack.mutate(p.number)}>
                Unpack
              </Button>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}

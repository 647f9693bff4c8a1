import { useQuery } from "@tanstack/react-query";
import { api, take, type Schema } from "../../api/client";
import { Button, Trouble } from "../../parts/controls";
import { Kg, Money } from "../../parts/format";
import { LampShape } from "../../parts/lamp";

type Carton = Schema<"RelayProposedCarton">;
type Place = Carton["places"][number];

/** The cartons that are proposed for what is left of a shipment; asked anew when more is packed. */
export const useProposal = (number: string, packed: number) =>
  useQuery({
    queryKey: ["proposal", number, packed],
    queryFn: () => take(api.GET("/api/v1/shipments/{number}/proposal", { params: { path: { number } } })),
  });

/** Cartons for what is left of a shipment, each drawn as it is loaded. A press packs one as it is proposed. */
export function Proposal({
  number,
  packed,
  busy,
  onPack,
}: {
  number: string;
  packed: number; // it is asked for anew when more is packed
  busy: boolean;
  onPack: (profile: string, units: Record<string, number>) => void;
}) {
  const q = useProposal(number, packed);
  if (q.isPending) return <p className="text-quiet">Looking for cartons …</p>;
  if (q.error) return <Trouble error={q.error} />;
  const p = q.data;
  return (
    <section aria-label="Proposed">
      <h2 className="mb-1">{p.cartons.length > 1 ? `Proposed: ${p.cartons.length} cartons` : "Proposed"}</h2>
      {p.unfit.map((u) => (
        <p key={u.sku} className="mb-2 flex items-start gap-2">
          <span className="pt-1">
            <LampShape state="stop" />
          </span>
          <span>
            {u.quantity} × {u.sku} goes into no carton: {u.why}
          </span>
        </p>
      ))}
      <ul className="flex flex-col gap-4">
        {p.cartons.map((c, i) => (
          <li key={i} className="border-t border-rule pt-2">
            <div className="flex items-baseline justify-between gap-2">
              <span className="font-medium">{c.profile.name}</span>
              <span className="text-quiet">
                <Kg grams={c.weight_g} />
                {c.currency && (
                  <>
                    , from <Money minor={c.cost ?? 0} currency={c.currency} />
                  </>
                )}
              </span>
            </div>
            <Drawing carton={c} />
            <Legend carton={c} />
            <Button large className="mt-2" disabled={busy} onClick={() => onPack(c.profile.code, c.units)}>
              Pack it so
            </Button>
          </li>
        ))}
      </ul>
      {p.unsized.length > 0 && (
        <p className="mt-2 text-[12px] text-quiet">Of unknown size, and not drawn: {p.unsized.join(", ")}. Type it in the catalog.</p>
      )}
      {p.cartons.length > 0 && (
        <p className="mt-2 text-[12px] text-quiet">
          {p.tariff ? "The cheapest to send by the carriers' tariffs." : "Few cartons of little volume; no tariff is known."}
        </p>
      )}
    </section>
  );
}

/** The SKUs of a carton, in the order in which they are numbered in its drawing. */
const skusOf = (c: Carton) => Object.keys(c.units).sort();

function Legend({ carton }: { carton: Carton }) {
  return (
    <ol className="text-[13px]">
      {skusOf(carton).map((sku, i) => (
        <li key={sku} className="flex gap-2">
          <span className="fig w-5 text-quiet">{i + 1}</span>
          <span className="code flex-1">{sku}</span>
          <span className="fig">{carton.units[sku]}</span>
        </li>
      ))}
    </ol>
  );
}

const cos = Math.cos(Math.PI / 6);

/** A point of the carton as it is seen from the front, above and to the right. */
const seen = (x: number, y: number, z: number): [number, number] => [(x - y) * cos, (x + y) / 2 - z];

const path = (points: [number, number][]) => `M${points.map(([x, y]) => `${x.toFixed(1)},${y.toFixed(1)}`).join("L")}Z`;

/** Whether a lies behind b, so that it is drawn first. */
const behind = (a: Place, b: Place) => a.x + a.length <= b.x || a.y + a.width <= b.y || a.z + a.height <= b.z;

/** Places in the order in which they are drawn: each after those that it hides. */
export function drawn(places: Place[]): Place[] {
  const left = [...places];
  const out: Place[] = [];
  while (left.length > 0) {
    const i = left.findIndex((a) => left.every((b) => a === b || !behind(b, a) || behind(a, b)));
    out.push(...left.splice(Math.max(0, i), 1));
  }
  return out;
}

function Drawing({ carton: c }: { carton: Carton }) {
  const { length_mm: l, width_mm: w, height_mm: h } = c.profile;
  const [right] = seen(l, 0, 0);
  const [leftmost] = seen(0, w, 0);
  const [, bottom] = seen(l, w, 0);
  const skus = skusOf(c);
  const edge = { fill: "none", stroke: "var(--color-quiet)", strokeWidth: 1, vectorEffect: "non-scaling-stroke" as const };
  const what = skus.map((sku, i) => `${i + 1}: ${c.units[sku]} × ${sku}`).join(", ");
  return (
    <svg
      role="img"
      aria-label={`${c.profile.name}, loaded with ${what}`}
      className="my-1 h-44 w-full"
      viewBox={`${leftmost - 5} ${-h - 5} ${right - leftmost + 10} ${bottom + h + 10}`}
    >
      <path d={path([seen(0, 0, 0), seen(l, 0, 0), seen(l, w, 0), seen(0, w, 0)])} {...edge} />
      <path d={path([seen(0, 0, 0), seen(0, 0, h), seen(l, 0, h), seen(l, 0, 0)])} {...edge} />
      <path d={path([seen(0, 0, 0), seen(0, 0, h), seen(0, w, h), seen(0, w, 0)])} {...edge} />
      {drawn(c.places).map((p, i) => (
        <Unit key={i} p={p} n={skus.indexOf(p.sku) + 1} of={skus.length} room={Math.max(l, w, h)} />
      ))}
    </svg>
  );
}

/** One unit: its top, its front and its right side, shaded, with its number on top. */
function Unit({ p, n, of, room }: { p: Place; n: number; of: number; room: number }) {
  const [x, y, z] = [p.x + p.length, p.y + p.width, p.z + p.height];
  const tone = 96 - (of > 1 ? ((n - 1) / (of - 1)) * 30 : 0);
  const faces: [string, number][] = [
    [path([seen(p.x, p.y, z), seen(x, p.y, z), seen(x, y, z), seen(p.x, y, z)]), tone],
    [path([seen(p.x, y, p.z), seen(x, y, p.z), seen(x, y, z), seen(p.x, y, z)]), tone - 12],
    [path([seen(x, p.y, p.z), seen(x, y, p.z), seen(x, y, z), seen(x, p.y, z)]), tone - 24],
  ];
  const [cx, cy] = seen((p.x + x) / 2, (p.y + y) / 2, z);
  const size = Math.min(room / 7, Math.min(p.length, p.width) * 0.6);
  return (
    <g>
      {faces.map(([d, light]) => (
        <path key={d} d={d} fill={`hsl(152 18% ${light}%)`} stroke="#14211c" strokeWidth={0.8} vectorEffect="non-scaling-stroke" />
      ))}
      <text x={cx} y={cy + size / 3} fontSize={size} textAnchor="middle" fill="#14211c">
        {n}
      </text>
    </g>
  );
}

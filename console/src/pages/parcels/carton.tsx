import { clsx } from "clsx";
import { useState } from "react";
import { useQuery } from "@tanstack/react-query";
import { Problem, type Schema } from "../../api/client";
import { may, meQuery } from "../../api/queries";
import { Button } from "../../parts/controls";

/** What is said of a carton beside its profile: what it weighs, and which units lie in it. */
export interface Carton {
  weight: string; // kilograms, as typed
  serials: Record<string, string>; // as scanned, by SKU
  setWeight: (text: string) => void;
  setSerials: (sku: string, text: string) => void;
  clear: () => void;
  body: (profile?: string, word?: Word) => Schema<"Carton">;
}

/** What a person says when packing was refused and it is right all the same. */
export type Word = { sure?: true; let_in?: true };

/** The word that lets a refused packing go on; none where there is no such way. */
function wordFor(error: unknown): [Word, string, "orders" | null] | null {
  if (!(error instanceof Problem)) return null;
  if (error.detail.includes("say that it is right")) return [{ sure: true }, "The weight is right", null];
  if (error.detail.includes("have it let in")) return [{ let_in: true }, "Let the serial number in", "orders"];
  return null;
}

/** A button that lets a refused packing go on, where that may be and whoever packs may say so. */
export function GoOn({ error, onWord }: { error: unknown; onWord: (word: Word) => void }) {
  const me = useQuery(meQuery);
  const found = wordFor(error);
  if (!found || (found[2] && !may(me.data, found[2]))) return null;
  return (
    <Button large className="mb-2" onClick={() => onWord(found[0])}>
      {found[1]}
    </Button>
  );
}

export function useCarton(): Carton {
  const [weight, setWeight] = useState("");
  const [serials, setAll] = useState<Record<string, string>>({});
  return {
    weight,
    serials,
    setWeight: (text) => setWeight(text.replace(",", ".")),
    setSerials: (sku, text) => setAll({ ...serials, [sku]: text }),
    clear: () => {
      setWeight("");
      setAll({});
    },
    body: (profile, word) => ({
      profile,
      ...word,
      weight_g: Math.round(Number(weight || 0) * 1000),
      serials: Object.fromEntries(Object.entries(serials).map(([sku, text]) => [sku, text.split(/\s+/).filter(Boolean)])),
    }),
  };
}

/** The cartons that the company has; a press packs. */
export function CartonChoice({
  profiles,
  chosen,
  decided,
  busy,
  onChoose,
}: {
  profiles: Schema<"PackingProfile">[];
  chosen?: string;
  decided?: string;
  busy: boolean;
  onChoose: (code: string) => void;
}) {
  return (
    <div className="mt-1 flex flex-wrap gap-2" role="group" aria-label="Parcel profile">
      {profiles.map((p) => (
        <button
          key={p.code}
          type="button"
          aria-pressed={chosen === p.code}
          disabled={busy}
          onClick={() => onChoose(p.code)}
          className={clsx(
            "min-h-12 rounded-[3px] border px-3 py-1.5 text-left",
            chosen === p.code
              ? "border-ink bg-ink text-paper"
              : decided === p.code
                ? "border-ink bg-sheet"
                : "border-rule bg-sheet hover:border-ink",
          )}
        >
          <div className="font-medium">{p.name}</div>
          {decided === p.code && <div className="text-[12px]">by rule</div>}
          <div className="code opacity-80">
            {p.length_mm}×{p.width_mm}×{p.height_mm}
          </div>
        </button>
      ))}
    </div>
  );
}

/** A field for the serial numbers of each item that has them. */
export function Serials({ of, carton }: { of: { sku: string; quantity: number }[]; carton: Carton }) {
  return of.map((w) => (
    <label key={w.sku} className="mb-3 block max-w-md">
      <span className="mb-1 block">
        Serial {w.quantity === 1 ? "number" : `numbers of ${w.quantity} units`} of <span className="code">{w.sku}</span>
      </span>
      <textarea
        className="field code min-h-12 w-full"
        rows={Math.min(w.quantity, 4)}
        placeholder="Scan each unit"
        value={carton.serials[w.sku] ?? ""}
        onChange={(e) => carton.setSerials(w.sku, e.target.value)}
      />
    </label>
  ));
}

/** What a carton weighs: typed, or by a scale that types. */
export function WeightField({ carton, children }: { carton: Carton; children?: React.ReactNode }) {
  return (
    <div className="mt-3 flex items-center gap-3">
      <label className="flex items-center gap-2">
        <span className="text-quiet">Weighed, kg</span>
        <input
          className="field fig min-h-12 w-24"
          inputMode="decimal"
          placeholder="by sum"
          value={carton.weight}
          onChange={(e) => carton.setWeight(e.target.value)}
        />
      </label>
      {children}
    </div>
  );
}

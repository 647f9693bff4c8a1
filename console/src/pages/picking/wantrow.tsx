import { clsx } from "clsx";
import type { ReactNode } from "react";
import type { Schema } from "../../api/client";
import { Button } from "../../parts/controls";
import { LampShape } from "../../parts/lamp";

type Want = Pick<Schema<"ShipmentView">["wants"][number], "sku" | "gtin" | "title" | "bin" | "quantity" | "picked">;

/** One thing to be collected: where it lies, how much of it is there, and what can be done about it. */
export function WantRow({
  want: w,
  next,
  work,
  back,
  busy,
  about,
  onShort,
  onBack,
}: {
  want: Want;
  next: boolean; // it is the next to be taken
  work: boolean; // whoever looks may pick
  back: boolean; // some of it can be taken back
  busy: boolean;
  about?: ReactNode;
  onShort: () => void;
  onBack: () => void;
}) {
  const done = w.picked >= w.quantity;
  return (
    <li className={clsx("flex flex-wrap items-center gap-4 border-b border-rule py-3", done ? "text-quiet" : next && "font-medium")}>
      <span className="w-24 shrink-0 font-mono text-[20px]">{w.bin || "–"}</span>
      <span className="min-w-0 flex-1">
        <span className="block">{w.title}</span>
        <span className="code text-quiet">
          {w.sku} {w.gtin}
        </span>
        {about}
      </span>
      {work && (
        <span className="flex gap-4 max-sm:order-last max-sm:w-full max-sm:justify-end">
          {!done && (
            <Button kind="quiet" className="min-h-12" aria-label={`${w.sku} is not there`} onClick={onShort}>
              Not there
            </Button>
          )}
          {back && (
            <Button kind="quiet" className="min-h-12" aria-label={`Take back one ${w.sku}`} disabled={busy} onClick={onBack}>
              Take back
            </Button>
          )}
        </span>
      )}
      <span className="fig w-20 text-right text-[20px]">
        {w.picked}/{w.quantity}
      </span>
      <LampShape state={done ? "go" : w.picked > 0 ? "busy" : "idle"} size={16} />
    </li>
  );
}

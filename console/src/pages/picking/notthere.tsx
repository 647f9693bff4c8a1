import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import type { Schema } from "../../api/client";
import { Button, Trouble } from "../../parts/controls";
import { Stepper } from "../../parts/stepper";

type Want = Pick<Schema<"ShipmentView">["wants"][number], "sku" | "title" | "bin" | "quantity" | "picked">;

/** Units that are not where they should lie: they are taken off the stock, and what becomes of them is told. */
export function NotThere({
  want: w,
  report,
  onDone,
}: {
  want: Want;
  report: (missing: { code: string; quantity: number; bin?: string }, key: string) => Promise<{ text: string }>;
  onDone: (text: string) => void;
}) {
  const left = w.quantity - w.picked;
  const [quantity, setQuantity] = useState(left);
  const [key] = useState(() => crypto.randomUUID());
  const tell = useMutation({
    mutationFn: () => report({ code: w.sku, quantity, bin: w.bin || undefined }, `${w.sku} ${key}`),
    onSuccess: (out) => onDone(out.text),
  });
  return (
    <form
      className="flex flex-col gap-4"
      onSubmit={(e) => {
        e.preventDefault();
        tell.mutate();
      }}
    >
      <p>
        {w.title}
        {w.bin && (
          <>
            , bin <span className="font-mono">{w.bin}</span>
          </>
        )}
        . The units are taken off the stock, so that nobody else is promised them, and the bin is to be counted. If more of it lies here you
        are told where; else another place sends them, or the order waits.
      </p>
      <Trouble error={tell.error} />
      <Stepper large of={w.sku} least={1} value={quantity} most={left} onChange={setQuantity} />
      <Button kind="main" large type="submit" disabled={tell.isPending}>
        {quantity === 1 ? "It is not there" : `${quantity} are not there`}
      </Button>
    </form>
  );
}

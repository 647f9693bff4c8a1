import { useMutation, useQueryClient } from "@tanstack/react-query";
import { ReasonField } from "../../shared/company/reasonfield";
import { useState } from "react";
import { api, take, type Schema } from "../../api/client";
import { Button, Trouble } from "../../parts/controls";
import { Stepper } from "../../parts/stepper";

type Order = Schema<"Order">;

/** What of a line can still be cancelled: all that has not left. */
export const cancellable = (l: Order["lines"][number]) => l.quantity - l.cancelled - l.shipped;

/** Cancels units of lines on our side, at any stage before they leave. The channel is told. */
export function CancelUnits({ order: o, onDone }: { order: Order; onDone: () => void }) {
  const client = useQueryClient();
  const lines = o.lines.filter((l) => !l.charge && cancellable(l) > 0);
  const [units, setUnits] = useState<Record<number, number>>({});
  const [reason, setReason] = useState("");
  const all = lines.every((l) => units[l.id] === cancellable(l));
  const some = Object.values(units).some((n) => n > 0);
  const cancel = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/v1/orders/{number}/cancel", {
          params: { path: { number: o.number }, header: { "If-Match": `"${o.revision}"` } },
          body: { reason, lines: all ? undefined : Object.fromEntries(Object.entries(units).filter(([, n]) => n > 0)) },
        }),
      ),
    onSuccess: (now) => {
      client.setQueryData(["order", o.number], now);
      void client.invalidateQueries({ queryKey: ["orders"] });
      onDone();
    },
  });
  const put = (id: number, n: number) => setUnits({ ...units, [id]: n });
  return (
    <form
      className="flex flex-col gap-4"
      onSubmit={(e) => {
        e.preventDefault();
        cancel.mutate();
      }}
    >
      <p className="text-quiet">
        Stock is free again at once; what is picked or packed is to be put back. {o.connection_name} is told, or you are asked to tell it.
      </p>
      <ul className="border-t border-ink">
        {lines.map((l) => (
          <li key={l.id} className="flex items-center gap-3 border-b border-rule py-1">
            <span className="min-w-0 flex-1">
              <span className="block">{l.title}</span>
              <span className="code text-quiet">{l.sku}</span>
            </span>
            <Stepper of={l.sku} value={units[l.id] ?? 0} most={cancellable(l)} onChange={(n) => put(l.id, n)} />
          </li>
        ))}
      </ul>
      <Button kind="quiet" onClick={() => setUnits(Object.fromEntries(lines.map((l) => [l.id, cancellable(l)])))}>
        All that has not left
      </Button>
      <ReasonField label="Why" help="The channel is told" required maxLength={200} value={reason} onChange={setReason} />
      <Trouble error={cancel.error} />
      <Button kind="main" type="submit" disabled={cancel.isPending || !some || !reason.trim()}>
        {all ? "Cancel the order" : "Cancel these units"}
      </Button>
    </form>
  );
}

import { useMutation, useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { api, take, type Schema } from "../../api/client";
import { may, meQuery } from "../../api/queries";
import { Button, Trouble } from "../../parts/controls";
import { Stepper } from "../../parts/stepper";
import { ReasonField } from "../../shared/company/reasonfield";

type Want = Pick<Schema<"ShipmentView">["wants"][number], "sku" | "title" | "bin" | "quantity" | "picked">;
type Shortage = Schema<"RelayShortage">;

/** Units that are not where they should lie: they are taken off the stock, and what becomes of them is told, or chosen. */
export function NotThere({
  want: w,
  report,
  onDone,
}: {
  want: Want;
  report: (missing: { code: string; quantity: number; bin?: string }, key: string) => Promise<Shortage>;
  onDone: (text: string) => void;
}) {
  const left = w.quantity - w.picked;
  const [quantity, setQuantity] = useState(left);
  const [key] = useState(() => crypto.randomUUID());
  const tell = useMutation({
    mutationFn: () => report({ code: w.sku, quantity, bin: w.bin || undefined }, `${w.sku} ${key}`),
    onSuccess: (out) => {
      if (!out.waits?.length) onDone(out.text);
    },
  });
  if (tell.data?.waits?.length) return <Waits out={tell.data} onDone={onDone} />;
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
        are told where; else another place sends them, or the order waits, and you are asked what becomes of it.
      </p>
      <Trouble error={tell.error} />
      <Stepper large of={w.sku} least={1} value={quantity} most={left} onChange={setQuantity} />
      <Button kind="main" large type="submit" disabled={tell.isPending}>
        {quantity === 1 ? "It is not there" : `${quantity} are not there`}
      </Button>
    </form>
  );
}

/** No place has them: the order waits, is sent without them for now, or they are cancelled. */
function Waits({ out, onDone }: { out: Shortage; onDone: (text: string) => void }) {
  const me = useQuery(meQuery);
  const [reason, setReason] = useState("");
  const [cancelling, setCancelling] = useState(false);
  const settled = useRef(new Set<number>()); // lines that have their outcome: pressing again does the others only
  const each = async (act: (w: Shortage["waits"][number]) => Promise<unknown>) => {
    let wrong: unknown;
    for (const w of out.waits.filter((x) => !settled.current.has(x.line))) {
      try {
        await act(w);
        settled.current.add(w.line);
      } catch (e) {
        wrong ??= e;
      }
    }
    if (wrong) throw wrong as Error;
  };
  const without = useMutation({
    mutationFn: () =>
      each((w) =>
        take(
          api.POST("/api/v1/orders/{number}/plan", {
            params: { path: { number: w.order } },
            body: { kind: "keep back", lines: { [w.line]: w.kept + w.units }, reason: "not found" },
          }),
        ),
      ),
    onSuccess: () => onDone(`${out.text}. The rest is sent without`),
  });
  const cancel = useMutation({
    mutationFn: () =>
      each((w) =>
        take(
          api.POST("/api/v1/orders/{number}/cancel", {
            params: { path: { number: w.order } },
            body: { reason, lines: { [w.line]: w.units } },
          }),
        ),
      ),
    onSuccess: () => onDone("Cancelled; the channel is told"),
  });
  const busy = without.isPending || cancel.isPending;
  return (
    <form
      className="flex flex-col gap-4"
      onSubmit={(e) => {
        e.preventDefault();
        cancel.mutate();
      }}
    >
      <p>
        {out.text}.{out.expected > 0 && ` ${out.expected} are on order.`}
      </p>
      <Trouble error={without.error ?? cancel.error} />
      <Button large kind="main" disabled={busy} onClick={() => onDone(out.text)}>
        Let it wait
      </Button>
      {may(me.data, "orders") ? (
        <>
          <Button large disabled={busy} onClick={() => without.mutate()}>
            Send the rest without
          </Button>
          {cancelling ? (
            <>
              <ReasonField label="Why" help="The channel is told" required maxLength={200} value={reason} onChange={setReason} />
              <Button large type="submit" disabled={busy || !reason.trim()}>
                Cancel these units
              </Button>
            </>
          ) : (
            <Button large disabled={busy} onClick={() => setCancelling(true)}>
              Cancel them …
            </Button>
          )}
        </>
      ) : (
        <p className="text-quiet">Whoever works on orders can send the rest without them, or cancel them.</p>
      )}
    </form>
  );
}

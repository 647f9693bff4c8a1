import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, take, type Schema } from "../../api/client";
import { Button, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import { minorOf, Money, typedAmount, When } from "../../parts/format";

type View = Schema<"ReturnView">;

function useTold(r: View) {
  const client = useQueryClient();
  return (now: View) => {
    client.setQueryData(["return", r.number], now);
    for (const key of ["returns", "exceptions", "orders"]) void client.invalidateQueries({ queryKey: [key] });
    void client.invalidateQueries({ queryKey: ["order", r.order_number] });
  };
}

/** What a person decides on a return: the refund, something else in its place, or that it does not come. */
export function Settling({ r }: { r: View }) {
  const onSuccess = useTold(r);
  const [amount, setAmount] = useState(typedAmount(r.proposed.total, r.currency));
  const [note, setNote] = useState("");
  const minor = minorOf(amount, r.currency);
  const settle = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/v1/returns/{number}/settle", {
          params: { path: { number: r.number }, header: { "If-Match": `"${r.revision}"` } },
          body: { amount: minor, note: note || undefined },
        }),
      ),
    onSuccess,
  });
  const callOff = useMutation({
    mutationFn: () => take(api.POST("/api/v1/returns/{number}/call-off", { params: { path: { number: r.number } } })),
    onSuccess,
  });
  return (
    <>
      <section>
        <h2 className="mb-2">Refund</h2>
        <Trouble error={settle.error ?? callOff.error} />
        <Proposal r={r} />
        {r.state === "arrived" ? (
          <form
            className="mt-3 flex flex-col gap-3"
            onSubmit={(e) => {
              e.preventDefault();
              settle.mutate();
            }}
          >
            <Labelled label={`The buyer gets back, ${r.currency}`}>
              <input
                className="field fig min-h-12 w-40 text-right"
                inputMode="decimal"
                required
                value={amount}
                onChange={(e) => setAmount(e.target.value)}
              />
            </Labelled>
            {minor !== r.proposed.total && (
              <Labelled label="Why another sum">
                <input className="field min-h-12 w-full" maxLength={500} value={note} onChange={(e) => setNote(e.target.value)} />
              </Labelled>
            )}
            <Button kind="main" large type="submit" disabled={settle.isPending || !(minor >= 0)}>
              {minor > 0 ? "Give it back, and end it" : "Give nothing back, and end it"}
            </Button>
          </form>
        ) : (
          <div className="mt-3">
            <Button large disabled={callOff.isPending} onClick={() => callOff.mutate()}>
              It does not come
            </Button>
          </div>
        )}
      </section>
      <Exchange r={r} />
    </>
  );
}

function Proposal({ r }: { r: View }) {
  const p = r.proposed;
  if (p.total === 0)
    return (
      <p className="text-quiet">
        {p.parts
          ? "Only a part of a kit is here: nothing is proposed for it."
          : r.came
            ? "Nothing is left to give back."
            : "Nothing is here yet."}
      </p>
    );
  return (
    <table className="ledger">
      <tbody>
        {p.lines.map((l) => (
          <tr key={l.line_id}>
            <td>
              {l.quantity} × <span className="code">{l.sku}</span>
            </td>
            <td className="r">
              <Money minor={l.amount} currency={r.currency} />
            </td>
          </tr>
        ))}
        {p.shipping > 0 && (
          <tr>
            <td>Shipping: all came back</td>
            <td className="r">
              <Money minor={p.shipping} currency={r.currency} />
            </td>
          </tr>
        )}
        <tr className="font-medium">
          <td>Proposed</td>
          <td className="r">
            <Money minor={p.total} currency={r.currency} />
          </td>
        </tr>
        <tr className="text-quiet">
          <td>Tax in it</td>
          <td className="r">
            <Money minor={p.tax} currency={r.currency} />
          </td>
        </tr>
        {r.refunded_before > 0 && (
          <tr className="text-quiet">
            <td>Given back before</td>
            <td className="r">
              <Money minor={r.refunded_before} currency={r.currency} />
            </td>
          </tr>
        )}
      </tbody>
    </table>
  );
}

/** Something that is sent in place of what comes back. */
function Exchange({ r }: { r: View }) {
  const onSuccess = useTold(r);
  const [rows, setRows] = useState<{ sku: string; quantity: number }[] | null>(null);
  const send = useMutation({
    mutationFn: (lines: { sku: string; quantity: number }[]) =>
      take(api.POST("/api/v1/returns/{number}/exchange", { params: { path: { number: r.number } }, body: { lines } })),
    onSuccess,
  });
  if (r.exchange)
    return (
      <section>
        <h2 className="mb-1">Exchange</h2>
        <p>
          Order{" "}
          <Link to={`/orders/${r.exchange}`} className="code underline decoration-rule underline-offset-4 hover:decoration-ink">
            {r.exchange}
          </Link>{" "}
          is sent in its place.
        </p>
      </section>
    );
  const put = (i: number, to: Partial<{ sku: string; quantity: number }>) =>
    setRows((rows ?? []).map((x, k) => (k === i ? { ...x, ...to } : x)));
  return (
    <section>
      <h2 className="mb-1">Exchange</h2>
      <Trouble error={send.error} />
      {rows === null ? (
        <Button large onClick={() => setRows(r.lines.filter((l) => l.announced || l.look || l.stock || l.written_off).map(sameAgain))}>
          Send something in its place
        </Button>
      ) : (
        <form
          className="flex flex-col gap-2"
          onSubmit={(e) => {
            e.preventDefault();
            send.mutate(rows.filter((x) => x.sku.trim()));
          }}
        >
          {rows.map((x, i) => (
            <span key={i} className="flex gap-2">
              <input
                className="field fig min-h-12 w-16 text-right"
                type="number"
                min={1}
                aria-label="Units"
                value={x.quantity}
                onChange={(e) => put(i, { quantity: Number(e.target.value) })}
              />
              <input
                className="field code min-h-12 min-w-0 flex-1"
                placeholder="SKU"
                aria-label="SKU"
                value={x.sku}
                onChange={(e) => put(i, { sku: e.target.value })}
              />
            </span>
          ))}
          <span className="flex flex-wrap gap-3">
            <Button large type="submit" disabled={send.isPending || !rows.some((x) => x.sku.trim())}>
              Make the order
            </Button>
            <Button large kind="quiet" onClick={() => setRows([...rows, { sku: "", quantity: 1 }])}>
              One more line
            </Button>
            <Button large kind="quiet" onClick={() => setRows(null)}>
              No exchange
            </Button>
          </span>
          <p className="text-quiet">A new order to the same buyer; it costs nothing.</p>
        </form>
      )}
    </section>
  );
}

const sameAgain = (l: View["lines"][number]) => ({ sku: l.sku, quantity: Math.max(l.announced, l.stock + l.look + l.written_off) });

/** How a return ended. */
export function Settled({ r }: { r: View }) {
  return (
    <section>
      <h2 className="mb-1">{r.state === "called off" ? "Called off" : "Given back"}</h2>
      {r.state === "settled" && (
        <p>
          <Money minor={r.refund} currency={r.currency} />, tax in it <Money minor={r.refund_tax} currency={r.currency} />
          <span className="block text-quiet">
            <When at={r.settled_at} />
          </span>
        </p>
      )}
      {r.exchange && (
        <p className="mt-2">
          Order{" "}
          <Link to={`/orders/${r.exchange}`} className="code underline decoration-rule underline-offset-4 hover:decoration-ink">
            {r.exchange}
          </Link>{" "}
          was sent in its place.
        </p>
      )}
    </section>
  );
}

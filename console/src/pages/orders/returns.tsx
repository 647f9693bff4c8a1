import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, take, type Schema } from "../../api/client";
import { Button, Sheet, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import { Money } from "../../parts/format";
import { Stepper } from "../../parts/stepper";
import { ReasonField } from "../../shared/company/reasonfield";

type Order = Schema<"Order">;
const link = "code underline decoration-rule underline-offset-4 hover:decoration-ink";

/** Goods of an order that come back, and a way to say that some do. */
export function OrderReturns({ order: o }: { order: Order }) {
  const [asking, setAsking] = useState(false);
  const shipped = o.lines.some((l) => !l.charge && l.shipped > 0);
  if (!shipped && o.returns.length === 0 && !o.exchange_for) return null;
  return (
    <section>
      <div className="mb-1 flex flex-wrap items-baseline justify-between gap-3">
        <h2>Returns</h2>
        {shipped && (
          <Button kind="quiet" onClick={() => setAsking(true)}>
            Goods come back
          </Button>
        )}
      </div>
      {o.exchange_for && (
        <p className="mb-1">
          Sent in place of return{" "}
          <Link to={`/returns/${o.exchange_for}`} className={link}>
            {o.exchange_for}
          </Link>
          .
        </p>
      )}
      {o.returns.length > 0 ? (
        <table className="ledger">
          <tbody>
            {o.returns.map((r) => (
              <tr key={r.number}>
                <td>
                  <Link to={`/returns/${r.number}`} className={link}>
                    {r.number}
                  </Link>
                </td>
                <td>
                  {r.came} of {r.units} here, {r.location}
                  {r.reason && <div className="text-quiet">“{r.reason}”</div>}
                </td>
                <td>{r.exchange && <span className="code">{r.exchange} in its place</span>}</td>
                <td className="r">{r.refund ? <Money minor={r.refund} currency={r.currency} /> : null}</td>
                <td className="r">{r.state}</td>
              </tr>
            ))}
          </tbody>
        </table>
      ) : (
        !o.exchange_for && <p className="text-quiet">Nothing of it came back.</p>
      )}
      <Sheet open={asking} onClose={() => setAsking(false)} title={`What of ${o.number} comes back`}>
        <Announce order={o} />
      </Sheet>
    </section>
  );
}

function Announce({ order: o }: { order: Order }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const [units, setUnits] = useState<Record<number, number>>({});
  const [reason, setReason] = useState("");
  const [tracking, setTracking] = useState("");
  const lines = o.lines.filter((l) => !l.charge && l.shipped > 0);
  const wanted = Object.fromEntries(Object.entries(units).filter(([, n]) => n > 0));
  const announce = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/v1/returns", {
          params: { header: { "Idempotency-Key": crypto.randomUUID() } },
          body: { order: o.number, lines: wanted, reason: reason || undefined, tracking: tracking || undefined },
        }),
      ),
    onSuccess: (r) => {
      void client.invalidateQueries({ queryKey: ["order", o.number] });
      void client.invalidateQueries({ queryKey: ["returns"] });
      void navigate(`/returns/${r.number}`);
    },
  });
  return (
    <form
      className="flex flex-col gap-4"
      onSubmit={(e) => {
        e.preventDefault();
        announce.mutate();
      }}
    >
      <Trouble error={announce.error} />
      <ul className="border-t border-ink">
        {lines.map((l) => (
          <li key={l.id} className="flex items-center gap-3 border-b border-rule py-1">
            <span className="min-w-0 flex-1">
              <span className="block">{l.title}</span>
              <span className="code text-quiet">{l.sku}</span>
            </span>
            <Stepper of={l.sku} value={units[l.id] ?? 0} most={l.shipped} onChange={(n) => setUnits({ ...units, [l.id]: n })} />
          </li>
        ))}
      </ul>
      <ReasonField label="What the buyer says" maxLength={300} value={reason} onChange={setReason} />
      <Labelled label="Number of the parcel in which it comes">
        <input className="field code w-full" maxLength={80} value={tracking} onChange={(e) => setTracking(e.target.value)} />
      </Labelled>
      <Button kind="main" type="submit" disabled={announce.isPending}>
        {Object.keys(wanted).length > 0 ? "Wait for it" : "It is here: see what it is"}
      </Button>
    </form>
  );
}

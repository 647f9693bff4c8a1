import { Link } from "react-router";
import type { Schema } from "../../api/client";
import { count, signed, When } from "../../parts/format";
import { Stage } from "../../parts/lamp";

const places: Record<string, string> = { order: "orders", purchase: "receiving", transfer: "transfers", count: "counts" };

export function Ledger({ list }: { list: Schema<"Movement">[] }) {
  return (
    <table className="ledger">
      <thead>
        <tr>
          <th>When</th>
          <th>Why</th>
          <th>At</th>
          <th className="r">On hand</th>
          <th className="r">makes</th>
          <th className="r">Allocated</th>
        </tr>
      </thead>
      <tbody>
        {list.map((m) => (
          <tr key={m.id}>
            <td>
              <When at={m.at} />
            </td>
            <td>
              {m.reason}{" "}
              {m.document && (
                <Link
                  className="code underline decoration-rule underline-offset-4"
                  to={`/${places[m.doc_kind ?? ""] ?? "orders"}/${m.document}`}
                >
                  {m.document}
                </Link>
              )}
              <div className="text-[12px] text-quiet">
                {m.kind}, {m.who}
                {m.on_order !== 0 && `, ${signed(m.on_order)} on order`}
                {m.in_transit !== 0 && `, ${signed(m.in_transit)} in transit`}
              </div>
            </td>
            <td className="whitespace-nowrap">
              {m.location} {m.bin && <span className="code text-quiet">{m.bin}</span>}
            </td>
            <td className={`r fig ${m.on_hand ? "" : "text-quiet"}`}>{signed(m.on_hand)}</td>
            <td className="r fig text-quiet">{count(m.after)}</td>
            <td className={`r fig ${m.allocated ? "" : "text-quiet"}`}>{signed(m.allocated)}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** The orders that hold an item. */
export function Promises({ list }: { list: Schema<"Promise">[] }) {
  return (
    <table className="ledger">
      <tbody>
        {list.map((p) => (
          <tr key={p.order_number + p.location}>
            <td>
              <Link className="code underline decoration-rule underline-offset-4 hover:decoration-ink" to={`/orders/${p.order_number}`}>
                {p.order_number}
              </Link>
            </td>
            <td>
              <Stage stage={p.stage} />
            </td>
            <td>{p.location}</td>
            <td className="r fig">{p.quantity}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

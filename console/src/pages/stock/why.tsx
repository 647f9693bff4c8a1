import { useQuery } from "@tanstack/react-query";
import { api, take } from "../../api/client";
import { Loading, Trouble } from "../../parts/controls";
import { count, signed, When } from "../../parts/format";
import { Lamp, MessageState } from "../../parts/lamp";
import { Ledger, Promises } from "./ledger";

/** The sum behind the quantity a channel shows, down to the ledger and the orders. */
export function Why({ connection, sku }: { connection: string; sku: string }) {
  const q = useQuery({ queryKey: ["why", connection, sku], queryFn: () => take(api.GET("/api/v1/connections/{code}/listings/{sku}/why", { params: { path: { code: connection, sku } } })) });
  if (q.isPending) return <Loading />;
  if (q.error) return <Trouble error={q.error} />;
  const v = q.data;
  const right = v.listing.shows === v.listing.allowed;
  return (
    <div data-testid="why">
      <p className="mb-3">
        {v.listing.connection_name} shows <strong className="code text-[16px]">{count(v.listing.shows)}</strong> of <span className="code">{sku}</span>.{" "}
        {right ? <Lamp state="go">as it should be</Lamp> : <Lamp state={v.waiting ? "busy" : "caution"}>it should show {count(v.listing.allowed)}</Lamp>}
      </p>
      <table className="ledger mb-1 max-w-lg">
        <tbody>
          {v.steps.map((s, i) => (
            <tr key={i}>
              <td>{s.text}</td>
              <td className="r fig w-24">{signed(s.change)}</td>
              <td className={`r fig w-24 ${i === v.steps.length - 1 ? "font-medium" : "text-quiet"}`}>{count(s.result)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="mb-4 text-[12px] text-quiet">
        Last told <When at={v.listing.told_at} />
        {v.waiting && (
          <>
            {" "}
            · a newer quantity is <MessageState state={v.waiting.state} /> {v.waiting.error}
          </>
        )}
      </p>
      {v.promised.length > 0 && (
        <>
          <h3 className="mb-1 font-semibold">The orders behind what is allocated</h3>
          <div className="mb-4 max-w-lg">
            <Promises list={v.promised} />
          </div>
        </>
      )}
      <h3 className="mb-1 font-semibold">The newest ledger entries</h3>
      <Ledger list={v.movements} />
    </div>
  );
}

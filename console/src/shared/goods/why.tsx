import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, take } from "../../api/client";
import { Loading, Trouble } from "../../parts/controls";
import { count, signed, When } from "../../parts/format";
import { Lamp, MessageState } from "../../parts/lamp";
import { Ledger, Promises } from "./ledger";

/** The sum behind the quantity a channel shows, down to the ledger and the orders. */
export function Why({ connection, sku }: { connection: string; sku: string }) {
  const [moment, setMoment] = useState("");
  const at = moment ? new Date(moment).toISOString() : undefined;
  const q = useQuery({
    queryKey: ["why", connection, sku, at],
    placeholderData: (old) => old,
    queryFn: () =>
      take(api.GET("/api/v1/connections/{code}/listings/{sku}/why", { params: { path: { code: connection, sku }, query: { at } } })),
  });
  if (q.isPending) return <Loading />;
  const picker = (
    <label className="mb-3 flex items-center gap-2 text-quiet">
      At another moment
      <input type="datetime-local" step={1} className="field code" value={moment} onChange={(e) => setMoment(e.target.value)} />
      {moment && (
        <button type="button" className="underline decoration-rule underline-offset-4" onClick={() => setMoment("")}>
          now
        </button>
      )}
    </label>
  );
  if (q.error)
    return (
      <>
        {picker}
        <Trouble error={q.error} />
      </>
    );
  const v = q.data;
  const right = v.shows === v.allowed;
  return (
    <div data-testid="why">
      {picker}
      <p className="mb-3">
        {v.listing.connection_name} {v.at ? "showed" : "shows"}{" "}
        <strong className="code text-[16px]">{v.known ? count(v.shows) : "?"}</strong> of <span className="code">{sku}</span>.{" "}
        {!v.known ? (
          <Lamp state="idle">what it showed then is not known</Lamp>
        ) : right ? (
          <Lamp state="go">as it should be</Lamp>
        ) : (
          <Lamp state={v.waiting ? "busy" : "caution"}>it should show {count(v.allowed)}</Lamp>
        )}
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
        {v.at ? (
          <>
            {v.how === "told" ? "Told by us" : "Seen there"} <When at={v.since} />
          </>
        ) : (
          <>
            Last told <When at={v.listing.told_at} />
          </>
        )}
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

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, take, type Schema } from "../../api/client";
import { may, meQuery } from "../../api/queries";
import { Button, Loading, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import { dayText, Money, When } from "../../parts/format";
import { Lamp, type LampState } from "../../parts/lamp";

export type Request = Schema<"Request">;
type Said = Schema<"RelaySaidByHand">["says"];

const lamps: Record<Request["state"], LampState> = {
  waits: "stop",
  asked: "busy",
  acknowledged: "busy",
  "partly sent": "busy",
  "being called off": "caution",
  sent: "go",
  refused: "idle",
  "called off": "idle",
};

const ended: Request["state"][] = ["sent", "refused", "called off"];

export const hasEnded = (r: Request) => ended.includes(r.state);

export function RequestLamp({ request: r }: { request: Request }) {
  return (
    <Lamp state={lamps[r.state]}>
      {r.state}
      {r.test && " (test)"}
    </Lamp>
  );
}

export const goodsText = (r: Request) => r.lines.map((l) => `${l.units} × ${l.sku || l.title}`).join(", ");

/** A request with what has left for it, and all that can be done with it. */
export function RequestSheet({ number, onDone }: { number: string; onDone?: () => void }) {
  const q = useQuery({
    queryKey: ["request", number],
    queryFn: () => take(api.GET("/api/v1/requests/{number}", { params: { path: { number } } })),
  });
  if (q.isPending) return <Loading />;
  if (!q.data) return <Trouble error={q.error} />;
  return (
    <div className="flex flex-col gap-4">
      <Facts r={q.data} />
      <Lines r={q.data} />
      <Parcels r={q.data} />
      <Actions r={q.data} onDone={onDone} />
    </div>
  );
}

function Facts({ r }: { r: Request }) {
  return (
    <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1">
      <dt className="text-quiet">Stands</dt>
      <dd>
        <RequestLamp request={r} />
        {r.reason && <div className="text-quiet">{r.reason}</div>}
      </dd>
      <dt className="text-quiet">Order</dt>
      <dd>
        <Link className="code underline decoration-rule underline-offset-4 hover:decoration-ink" to={`/orders/${r.order}`}>
          {r.order}
        </Link>
      </dd>
      <dt className="text-quiet">Our reference</dt>
      <dd className="code">{r.reference}</dd>
      {r.their_id && (
        <>
          <dt className="text-quiet">Their number</dt>
          <dd className="code">{r.their_id}</dd>
        </>
      )}
      {r.asked_at && (
        <>
          <dt className="text-quiet">Asked</dt>
          <dd>
            <When at={r.asked_at} />
            {r.asks > 1 && <span className="text-quiet">, {r.asks} times</span>}
          </dd>
        </>
      )}
      {r.heard_at && (
        <>
          <dt className="text-quiet">Last heard</dt>
          <dd>
            <When at={r.heard_at} />
          </dd>
        </>
      )}
      {r.expected && (
        <>
          <dt className="text-quiet">To be sent on</dt>
          <dd>{dayText(r.expected)}</dd>
        </>
      )}
      {(r.cost > 0 || r.billed > 0) && (
        <>
          <dt className="text-quiet">Costs</dt>
          <dd>
            <Money minor={r.cost} currency={r.currency} /> <span className="text-quiet">as agreed,</span>{" "}
            <Money minor={r.billed} currency={r.currency} /> <span className="text-quiet">billed</span>
          </dd>
        </>
      )}
    </dl>
  );
}

function Lines({ r }: { r: Request }) {
  return (
    <table className="ledger">
      <thead>
        <tr>
          <th>Item</th>
          <th className="r">Asked</th>
          <th className="r">Sent</th>
          <th className="r">Not sent</th>
        </tr>
      </thead>
      <tbody>
        {r.lines.map((l) => (
          <tr key={l.line_id}>
            <td>
              <span className="code">{l.sku || "not asked for"}</span> <span className="text-quiet">{l.title}</span>
            </td>
            <td className="r fig">{l.units}</td>
            <td className="r fig">{l.sent}</td>
            <td className="r fig">{l.refused + l.called_off || ""}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function Parcels({ r }: { r: Request }) {
  if (!r.parcels?.length) return null;
  return (
    <ul>
      {r.parcels.map((p) => (
        <li key={p.number}>
          <Link className="code underline decoration-rule underline-offset-4 hover:decoration-ink" to={`/parcels/${p.number}`}>
            {p.number}
          </Link>{" "}
          {p.carrier} <span className="code">{p.tracking}</span>
        </li>
      ))}
    </ul>
  );
}

/** What a person can tell of a request, by where it stands. */
const words: [Said, string][] = [
  ["acknowledged", "They will send it"],
  ["refused", "They do not send it"],
  ["called off", "They have called it off"],
  ["not called off", "It is too late for them"],
  ["closed", "They have sent all they will"],
];

function fitting(r: Request): [Said, string][] {
  return words.filter(([w]) => {
    if (r.state === "being called off") return w === "called off" || w === "not called off";
    if (w === "called off" || w === "not called off") return false;
    if (w === "acknowledged") return r.state === "asked" || (r.state === "waits" && r.asks > 0);
    return w !== "closed" || r.state === "partly sent";
  });
}

function Actions({ r, onDone }: { r: Request; onDone?: () => void }) {
  const client = useQueryClient();
  const me = useQuery(meQuery);
  const [reason, setReason] = useState("");
  const [typing, setTyping] = useState(false);
  const fresh = () => {
    for (const key of ["request", "requests", "order requests", "order", "exceptions", "causes", "partners"])
      void client.invalidateQueries({ queryKey: [key] });
    onDone?.();
  };
  const path = { params: { path: { number: r.number } } };
  const again = useMutation({ mutationFn: () => take(api.POST("/api/v1/requests/{number}/ask-again", path)), onSuccess: fresh });
  const off = useMutation({
    mutationFn: () => take(api.POST("/api/v1/requests/{number}/call-off", { ...path, body: { reason } })),
    onSuccess: fresh,
  });
  const say = useMutation({
    mutationFn: (says: Said) => take(api.POST("/api/v1/requests/{number}/say", { ...path, body: { says, reason } })),
    onSuccess: fresh,
  });
  if (hasEnded(r) || !may(me.data, "orders")) return null;
  const busy = again.isPending || off.isPending || say.isPending;
  return (
    <section aria-label="What can be done" className="flex flex-col gap-3 border-t border-rule pt-3">
      <Labelled label="Why" help="Where it is called off or refused: the partner is told, and the order says so.">
        <input className="field w-full" value={reason} onChange={(e) => setReason(e.target.value)} />
      </Labelled>
      <div className="flex flex-wrap gap-2">
        <Button kind="main" disabled={busy} onClick={() => again.mutate()}>
          {r.asks ? "Ask them again" : "Ask them"}
        </Button>
        {r.state !== "being called off" && (
          <Button disabled={busy} onClick={() => off.mutate()}>
            Send it from elsewhere
          </Button>
        )}
        {!r.test && (
          <Button disabled={busy} onClick={() => setTyping(!typing)}>
            Type a tracking number
          </Button>
        )}
      </div>
      {typing && <Sent r={r} onDone={fresh} />}
      <div>
        <h3 className="mb-1 text-quiet">They told us otherwise</h3>
        <div className="flex flex-wrap gap-2">
          {fitting(r).map(([w, text]) => (
            <Button key={w} kind="quiet" disabled={busy} onClick={() => say.mutate(w)}>
              {text}
            </Button>
          ))}
        </div>
      </div>
      <Trouble error={again.error ?? off.error ?? say.error} />
    </section>
  );
}

/** A parcel that the partner sent and told of by telephone or letter. */
function Sent({ r, onDone }: { r: Request; onDone: () => void }) {
  const [carrier, setCarrier] = useState("");
  const [tracking, setTracking] = useState("");
  const put = useMutation({
    mutationFn: () =>
      take(api.POST("/api/v1/requests/{number}/sent", { params: { path: { number: r.number } }, body: { carrier, tracking } })),
    onSuccess: onDone,
  });
  return (
    <form
      aria-label="A parcel that left"
      className="flex flex-wrap items-end gap-3"
      onSubmit={(e) => {
        e.preventDefault();
        put.mutate();
      }}
    >
      <Labelled label="Carrier">
        <input className="field w-40" required value={carrier} onChange={(e) => setCarrier(e.target.value)} />
      </Labelled>
      <Labelled label="Tracking number">
        <input className="field code w-56" required value={tracking} onChange={(e) => setTracking(e.target.value)} />
      </Labelled>
      <Button kind="main" type="submit" disabled={put.isPending}>
        It left with that
      </Button>
      <Trouble error={put.error} />
    </form>
  );
}

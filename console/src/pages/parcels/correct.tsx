import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, take, type Schema } from "../../api/client";
import { may, meQuery } from "../../api/queries";
import { Button, Trouble } from "../../parts/controls";
import { LampShape } from "../../parts/lamp";
import { addressFields } from "../../shared/address/fields";

type View = Schema<"ParcelView">;

/** What is wrong, where the carrier named the field, and where it is put right on this page. */
const sized: Record<string, string> = {
  weight_g: "Weigh it anew, or choose another carton.",
  length_mm: "Choose another carton.",
  width_mm: "Choose another carton.",
  height_mm: "Choose another carton.",
  service: "Choose another service.",
  point: "It cannot be fetched there.",
};

/** A carrier's refusal, with what it speaks of to be corrected and sent again. */
export function CarrierRefused({ s, onDone }: { s: View; onDone: () => void }) {
  const me = useQuery(meQuery);
  const field = s.wrong_field ?? "";
  const place = field.startsWith("to.") || !(field in sized);
  return (
    <div className="mb-4 border-l-4 border-stop bg-sheet px-3 py-2" role="alert">
      <div className="flex items-start gap-2">
        <span className="pt-0.5">
          <LampShape state="stop" />
        </span>
        <span>
          The carrier refused: {s.error} Nothing was bought. {sized[field]}
        </span>
      </div>
      {field === "point" && (
        <Link
          className="mt-1 inline-block underline decoration-rule underline-offset-4 hover:decoration-ink"
          to={`/orders/${s.order_number}#point`}
        >
          Choose another point, or the door
        </Link>
      )}
      {place &&
        (may(me.data, "orders") ? (
          <CorrectAddress s={s} wrong={field.replace("to.", "")} onDone={onDone} />
        ) : (
          <p className="mt-1 text-quiet">An address is corrected by whoever works on orders.</p>
        ))}
    </div>
  );
}

function CorrectAddress({ s, wrong, onDone }: { s: View; wrong: string; onDone: () => void }) {
  const [open, setOpen] = useState(wrong !== "");
  const [to, setTo] = useState(s.ship_to);
  const again = s.carrier_code && s.service ? { carrier: s.carrier_code, service: s.service } : null;
  const send = useMutation({
    mutationFn: async (ship: boolean) => {
      const now = await take(api.PUT("/api/v1/parcels/{number}/address", { params: { path: { number: s.number } }, body: to }));
      if (!ship || !again) return now;
      return take(
        api.POST("/api/v1/parcels/{number}/ship", {
          params: { path: { number: s.number }, header: { "Idempotency-Key": `${s.number} ${crypto.randomUUID()}` } },
          body: again,
        }),
      );
    },
    onSettled: onDone,
  });
  if (!open) {
    return (
      <Button large className="mt-2" onClick={() => setOpen(true)}>
        Correct the address
      </Button>
    );
  }
  return (
    <form
      aria-label="Correct the address"
      className="mt-3 grid grid-cols-2 gap-3"
      onSubmit={(e) => {
        e.preventDefault();
        send.mutate(true);
      }}
    >
      {addressFields.map(([key, label]) => (
        <label key={key} className="flex flex-col gap-1">
          <span className={key === wrong ? "font-medium text-stop" : "text-quiet"}>
            {label}
            {key === wrong && ": the carrier does not take it"}
          </span>
          <input
            className={`field min-h-12 ${key === wrong ? "border-stop!" : ""}`}
            name={key}
            autoFocus={key === wrong}
            value={to[key] ?? ""}
            onChange={(e) => setTo({ ...to, [key]: e.target.value })}
          />
        </label>
      ))}
      {s.inside.length > 0 && <p className="col-span-2 text-quiet">It is corrected for all orders in this carton.</p>}
      <div className="col-span-2 flex flex-wrap items-center gap-3">
        <Trouble error={send.error} />
        {again && (
          <Button kind="main" large type="submit" disabled={send.isPending}>
            {send.isPending ? "Buying …" : "Correct it and send it again"}
          </Button>
        )}
        <Button large type={again ? "button" : "submit"} disabled={send.isPending} onClick={again ? () => send.mutate(false) : undefined}>
          Only correct it
        </Button>
      </div>
    </form>
  );
}

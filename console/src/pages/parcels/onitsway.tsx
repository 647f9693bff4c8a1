import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, take, type Schema } from "../../api/client";
import { Button, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import { dayText, decimal, minorOf, Money, When } from "../../parts/format";
import { Lamp, type LampState } from "../../parts/lamp";
import { JourneyLamp } from "./state";

type View = Schema<"ParcelView">;
type Claim = NonNullable<View["claim"]>;

/** What its carrier says of a parcel since it left, by when it should be there, and what is claimed for it. */
export function OnItsWay({ s }: { s: View }) {
  return (
    <section aria-label="On its way">
      <h2 className="mb-1">On its way</h2>
      {s.promised && (
        <p className="mb-1">
          Should arrive by {dayText(s.promised)}
          {s.delivered_at && (
            <>
              , arrived <When at={s.delivered_at} />
            </>
          )}
        </p>
      )}
      {s.events.length === 0 ? (
        <p className="text-quiet">The carrier said nothing of it yet.</p>
      ) : (
        <table className="ledger">
          <tbody>
            {[...s.events].reverse().map((e, i) => (
              <tr key={i}>
                <td className="w-44">
                  <JourneyLamp journey={e.state} />
                </td>
                <td className="w-44">
                  <When at={e.at} />
                </td>
                <td>{[e.text, e.place].filter(Boolean).join(", ")}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <ClaimPart s={s} />
    </section>
  );
}

const states: Record<Claim["state"], LampState> = {
  noted: "busy",
  sent: "busy",
  granted: "go",
  declined: "stop",
  paid: "idle",
  withdrawn: "idle",
};

/** A claim at the carrier, for a parcel that was lost, damaged or late. */
function ClaimPart({ s }: { s: View }) {
  const client = useQueryClient();
  const [open, setOpen] = useState(false);
  const currency = s.claim?.currency || s.currency || "EUR";
  const [claim, setClaim] = useState({ state: "noted", amount: "", note: "" });
  const put = useMutation({
    mutationFn: () =>
      take(
        api.PUT("/api/v1/parcels/{number}/claim", {
          params: { path: { number: s.number } },
          body: {
            state: claim.state as Claim["state"],
            amount: claim.amount ? minorOf(claim.amount, currency) : 0,
            currency,
            note: claim.note,
          },
        }),
      ),
    onSuccess: () => {
      setOpen(false);
      void client.invalidateQueries();
    },
  });
  const begin = () => {
    setClaim({
      state: s.claim?.state ?? "noted",
      amount: s.claim?.amount ? decimal(s.claim.amount, currency) : "",
      note: s.claim?.note ?? "",
    });
    setOpen(true);
  };
  return (
    <div className="mt-2">
      {s.claim && (
        <p className="flex flex-wrap items-baseline gap-x-3">
          <Lamp state={states[s.claim.state]}>claim {s.claim.state}</Lamp>
          {s.claim.amount > 0 && <Money minor={s.claim.amount} currency={s.claim.currency} />}
          <span>{s.claim.note}</span>
          <span className="text-quiet">
            {s.claim.made_by} <When at={s.claim.changed_at} />
          </span>
        </p>
      )}
      {open ? (
        <form
          className="mt-2 grid max-w-xl gap-3 sm:grid-cols-2"
          onSubmit={(e) => {
            e.preventDefault();
            put.mutate();
          }}
        >
          <Labelled label="How it stands">
            <select className="field w-full" value={claim.state} onChange={(e) => setClaim({ ...claim, state: e.target.value })}>
              {Object.keys(states).map((x) => (
                <option key={x}>{x}</option>
              ))}
            </select>
          </Labelled>
          <Labelled label={`Asked for, ${currency}`}>
            <input
              className="field w-full"
              inputMode="decimal"
              value={claim.amount}
              onChange={(e) => setClaim({ ...claim, amount: e.target.value })}
            />
          </Labelled>
          <Labelled label="The carrier's number of it, and what it is about" wide>
            <input className="field w-full" value={claim.note} onChange={(e) => setClaim({ ...claim, note: e.target.value })} />
          </Labelled>
          <div className="flex gap-3 sm:col-span-2">
            <Button kind="main" type="submit" disabled={put.isPending}>
              Note the claim
            </Button>
            <Button kind="quiet" type="button" onClick={() => setOpen(false)}>
              Leave it
            </Button>
          </div>
          <Trouble error={put.error} />
        </form>
      ) : (
        <Button kind="quiet" onClick={begin}>
          {s.claim ? "Change the claim" : "Note a claim"}
        </Button>
      )}
    </div>
  );
}

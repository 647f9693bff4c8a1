import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, take, type Schema } from "../../api/client";
import { Button, Trouble } from "../../parts/controls";
import { minorOf, Money, typedAmount } from "../../parts/format";

type View = Schema<"ParcelView">;

/** What a parcel without a label is insured for: as rules say, or as a person does. */
export function Insurance({ s, onDone }: { s: View; onDone: () => void }) {
  const now = s.insurance;
  const [text, setText] = useState<string | null>(null);
  const set = useMutation({
    mutationFn: (amount: number) =>
      take(api.PUT("/api/v1/parcels/{number}/insurance", { params: { path: { number: s.number } }, body: { amount } })),
    onSuccess: () => {
      setText(null);
      onDone();
    },
  });
  if (!now) return null;
  const amount = text === null ? NaN : minorOf(text, now.currency);
  if (text === null) {
    return (
      <p className="mt-3 flex flex-wrap items-center gap-3" data-testid="insurance">
        <span>
          {now.amount > 0 ? (
            <>
              Insured for <Money minor={now.amount} currency={now.currency} />
            </>
          ) : (
            "Not insured"
          )}
          <span className="text-quiet">{now.by_hand ? ", by hand" : ", as rules say"}</span>
        </span>
        <Button large kind="quiet" onClick={() => setText(now.amount > 0 ? typedAmount(now.amount, now.currency) : "")}>
          {now.amount > 0 ? "Insure it otherwise" : "Insure it"}
        </Button>
        {now.by_hand && (
          <Button large kind="quiet" disabled={set.isPending} onClick={() => set.mutate(-1)}>
            As rules say
          </Button>
        )}
        <Trouble error={set.error} />
      </p>
    );
  }
  return (
    <form
      aria-label="Insurance"
      className="mt-3 flex flex-wrap items-end gap-3"
      onSubmit={(e) => {
        e.preventDefault();
        if (amount >= 0) set.mutate(amount);
      }}
    >
      <label className="flex flex-col gap-1">
        <span className="text-quiet">Insured for, {now.currency}</span>
        <input
          className="field min-h-12 w-32"
          inputMode="decimal"
          autoFocus
          value={text}
          onChange={(e) => setText(e.target.value)}
          placeholder="0 for nothing"
        />
      </label>
      <Button large kind="main" type="submit" disabled={set.isPending || !(amount >= 0)}>
        Insure
      </Button>
      <Button large type="button" onClick={() => setText(null)}>
        Leave it
      </Button>
      <Trouble error={set.error} />
    </form>
  );
}

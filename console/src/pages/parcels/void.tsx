import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, take, type Schema } from "../../api/client";
import { Button, Trouble } from "../../parts/controls";
import { When } from "../../parts/format";
import { Lamp } from "../../parts/lamp";

/** The way back for a parcel whose label is bought or typed and that its carrier does not have yet. */
export function VoidLabel({ parcel: s }: { parcel: Schema<"ParcelView"> }) {
  const client = useQueryClient();
  const [sure, setSure] = useState(false);
  const path = { path: { number: s.number } };
  const again = { onSettled: () => void client.invalidateQueries() };
  const voidIt = useMutation({
    mutationFn: (byHand: boolean) =>
      take(
        api.POST("/api/v1/parcels/{number}/void", {
          params: { ...path, header: { "Idempotency-Key": `${s.number} ${crypto.randomUUID()}` } },
          body: { by_hand: byHand },
        }),
      ),
    ...again,
  });
  const keep = useMutation({ mutationFn: () => take(api.POST("/api/v1/parcels/{number}/keep", { params: path })), ...again });
  if (s.scanned_at || s.state !== "shipped") return null;
  const busy = voidIt.isPending || keep.isPending;
  const name = s.carrier || "the carrier";
  return (
    <section>
      <h2 className="mb-1">Take it back</h2>
      <Trouble error={voidIt.error ?? keep.error} />
      {s.void_asked_at ? (
        <>
          <p className="mb-2">
            <Lamp state="busy">
              {name} is asked to void the label, since <When at={s.void_asked_at} />
            </Lamp>
          </p>
          <div className="flex flex-wrap gap-3">
            <Button large disabled={busy} onClick={() => voidIt.mutate(true)}>
              It is voided there
            </Button>
            <Button large disabled={busy} onClick={() => keep.mutate()}>
              The label stays
            </Button>
          </div>
        </>
      ) : sure ? (
        <div className="flex flex-wrap items-center gap-3" role="group" aria-label="Void the label">
          <Button large disabled={busy} onClick={() => voidIt.mutate(false)}>
            Void {s.tracking}
          </Button>
          <Button large kind="quiet" disabled={busy} onClick={() => setSure(false)}>
            Keep it
          </Button>
          <span className="text-quiet">The carton stays packed, and the channel hears that it has not left.</span>
        </div>
      ) : (
        <Button large onClick={() => setSure(true)}>
          {s.typed ? "It has not left" : "Void the label"}
        </Button>
      )}
    </section>
  );
}

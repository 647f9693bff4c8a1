import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, take, type Schema } from "../../api/client";
import { Button, Sheet, Trouble } from "../../parts/controls";
import { useAction } from "../../shared/orders/action";
import { ActionResults } from "../../shared/orders/results";

type Action = Schema<"ParcelActionInputBody">["action"];

/** What can be done to many parcels: to which of them it can, and what is said before. */
const actions: { action: Action; verb: string; states: string[]; warns?: string }[] = [
  {
    action: "ship parcels",
    verb: "Ship",
    states: ["packed"],
    warns: "A label is bought for each, by the service that a rule chose or the buyer was promised, or else the cheapest.",
  },
  { action: "unpack parcels", verb: "Unpack", states: ["packed"] },
  {
    action: "void labels",
    verb: "Void the labels",
    states: ["shipped"],
    warns: "Labels of parcels that their carriers do not have yet are voided. These are packed again, and the channels are told.",
  },
];

const mostPrinted = 100;

/** The bar that appears when parcels are marked; state is that of the list. */
export function ActOnParcels({ parcels, state, onDone }: { parcels: string[]; state: string; onDone: () => void }) {
  const client = useQueryClient();
  const [asking, setAsking] = useState<(typeof actions)[number] | null>(null);
  const action = useAction(() => void client.invalidateQueries({ queryKey: ["parcels"] }));
  const act = useMutation({
    mutationFn: (to: Action) => take(api.POST("/api/v1/parcels/actions", { body: { action: to, parcels } })),
    onSuccess: (d) => {
      setAsking(null);
      action.follow(d);
    },
  });
  const many = parcels.length === 1 ? "1 parcel" : `${parcels.length} parcels`;
  const prints: [string, string][] = [["packing-slips", "Packing slips"]];
  if (state === "shipped") prints.push(["labels", "Labels"]);
  return (
    <>
      <div
        role="toolbar"
        aria-label="Marked parcels"
        className="sticky bottom-0 z-20 mt-3 flex flex-wrap items-center gap-2 border-t border-ink bg-paper py-2"
      >
        <strong className="mr-2 font-medium">{many}</strong>
        {actions
          .filter((a) => a.states.some((x) => state.split(",").includes(x)))
          .map((a) => (
            <Button key={a.action} onClick={() => (a.warns ? setAsking(a) : act.mutate(a.action))} disabled={act.isPending}>
              {a.verb}
            </Button>
          ))}
        {parcels.length <= mostPrinted ? (
          prints.map(([path, name]) => (
            <a
              key={path}
              className="inline-flex items-center rounded-[3px] border border-rule bg-sheet px-3 py-1 hover:border-ink"
              href={`/api/v1/${path}.pdf?parcels=${parcels.map(encodeURIComponent).join(",")}`}
              target="_blank"
              rel="noreferrer"
            >
              {name}
            </a>
          ))
        ) : (
          <span className="text-quiet">At most {mostPrinted} are printed at once.</span>
        )}
        <Button kind="quiet" className="ml-auto" onClick={onDone}>
          Unmark
        </Button>
      </div>
      {!asking && <Trouble error={act.error} />}
      <Sheet open={asking !== null} onClose={() => setAsking(null)} title={asking ? `${asking.verb}: ${many}` : ""}>
        {asking && (
          <>
            <p className="mb-3">{asking.warns}</p>
            <Trouble error={act.error} />
            <Button kind="main" disabled={act.isPending} onClick={() => act.mutate(asking.action)}>
              {asking.verb}
            </Button>
          </>
        )}
      </Sheet>
      <ActionResults action={action} to={(number) => `/parcels/${encodeURIComponent(number)}`} onClose={onDone} />
    </>
  );
}

import { peopleHereQuery } from "../../api/queries";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, take, type Schema } from "../../api/client";
import { Button, Sheet, Trouble } from "../../parts/controls";
import { useAction } from "../../shared/orders/action";
import { ActionResults } from "../../shared/orders/results";

type Action = Schema<"RelayBulk">["action"];

/** What can be done to many: the verb, what it asks for, and whether it wants a second look first. */
const actions: { action: Action; verb: string; asks?: string; warns?: string }[] = [
  { action: "approve", verb: "Let go on" },
  { action: "hold", verb: "Hold", asks: "Why" },
  { action: "tag", verb: "Tag", asks: "Tag" },
  { action: "untag", verb: "Take tag off", asks: "Tag" },
  { action: "assign", verb: "Assign", asks: "Person" },
  { action: "pick", verb: "Begin to pick" },
  {
    action: "ship",
    verb: "Ship",
    warns:
      "Labels are bought for all of them that are packed, by the service that a rule chose or the buyer was promised, " +
      "or else the cheapest.",
  },
  { action: "hand over", verb: "Hand over" },
  {
    action: "cancel",
    verb: "Cancel",
    asks: "Why",
    warns: "What is not shipped is cancelled here, and its stock is released. The channel is told, or you are asked to tell it.",
  },
];

/** Begins to pick what is ready, and shows the pick lists in a tab of their own. */
function printPickLists(orders: string[]) {
  const form = document.createElement("form");
  form.method = "post";
  form.action = "/api/v1/pick-lists.pdf";
  form.target = "_blank";
  const field = document.createElement("input");
  field.type = "hidden";
  field.name = "orders";
  field.value = orders.join(",");
  form.append(field);
  document.body.append(form);
  form.submit();
  form.remove();
}

/** The bar that appears when orders are marked. */
export function ActOn({ orders, onDone }: { orders: string[]; onDone: () => void }) {
  const people = useQuery(peopleHereQuery);
  const [asking, setAsking] = useState<(typeof actions)[number] | null>(null);
  const [value, setValue] = useState("");
  const action = useAction();
  const result = action.result;
  const act = useMutation({
    mutationFn: (a: { action: Action; value: string }) => take(api.POST("/api/v1/orders/actions", { body: { ...a, orders } })),
    onSuccess: (d) => {
      setAsking(null);
      setValue("");
      action.follow(d);
    },
  });
  const undo = useMutation({
    mutationFn: (id: number) => take(api.POST("/api/v1/orders/actions/{id}/undo", { params: { path: { id } } })),
    onSuccess: (d) => action.follow({ ...d, undo: false }),
  });
  const begin = (a: (typeof actions)[number]) => (a.asks || a.warns ? setAsking(a) : act.mutate({ action: a.action, value: "" }));
  return (
    <>
      <div
        role="toolbar"
        aria-label="Marked orders"
        className="sticky bottom-0 z-20 mt-3 flex flex-wrap items-center gap-2 border-t border-ink bg-paper py-2"
      >
        <strong className="mr-2 font-medium">{orders.length === 1 ? "1 order" : `${orders.length} orders`}</strong>
        {actions.map((a) => (
          <Button key={a.action} onClick={() => begin(a)} disabled={act.isPending}>
            {a.verb}
          </Button>
        ))}
        <Button onClick={() => printPickLists(orders)}>Print pick lists</Button>
        <Button kind="quiet" className="ml-auto" onClick={onDone}>
          Unmark
        </Button>
      </div>
      {!asking && <Trouble error={act.error} />}
      <Sheet
        open={asking !== null}
        onClose={() => setAsking(null)}
        title={`${asking?.verb} ${orders.length === 1 ? "1 order" : `${orders.length} orders`}`}
      >
        {asking && (
          <form
            className="flex flex-col gap-3"
            onSubmit={(e) => {
              e.preventDefault();
              act.mutate({ action: asking.action, value });
            }}
          >
            {asking.warns && <p>{asking.warns}</p>}
            {asking.asks && (
              <label className="flex flex-col gap-1">
                <span className="text-quiet">{asking.asks}</span>
                <input
                  className="field"
                  autoFocus
                  list={asking.action === "assign" ? "people" : undefined}
                  required={asking.action === "tag" || asking.action === "untag"}
                  value={value}
                  onChange={(e) => setValue(e.target.value)}
                />
                <datalist id="people">
                  {people.data?.map((p) => (
                    <option key={p} value={p} />
                  ))}
                </datalist>
              </label>
            )}
            <Trouble error={act.error} />
            <Button kind="main" type="submit" disabled={act.isPending}>
              {asking.verb}
            </Button>
          </form>
        )}
      </Sheet>
      <ActionResults action={action} to={(number) => `/orders/${encodeURIComponent(number)}`} onClose={onDone}>
        <div className="mt-3 flex gap-2">
          {result?.undo && (
            <Button onClick={() => undo.mutate(result.id)} disabled={undo.isPending}>
              Undo
            </Button>
          )}
          <Trouble error={undo.error} />
        </div>
      </ActionResults>
    </>
  );
}

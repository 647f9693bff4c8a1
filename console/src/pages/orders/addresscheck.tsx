import { useMutation, useQueryClient } from "@tanstack/react-query";
import { api, take, type Schema } from "../../api/client";
import { Button, Trouble } from "../../parts/controls";
import { Lamp } from "../../parts/lamp";

type Order = Schema<"Order">;

const line = (a: Order["ship_to"]) => [a.street, a.extra, `${a.postcode} ${a.town}`, a.country].filter((x) => x?.trim()).join(", ");

/** What an address service says of an order's address, with a better form that a person may take. */
export function AddressCheck({ order: o }: { order: Order }) {
  const client = useQueryClient();
  const put = useMutation({
    mutationFn: () => take(api.POST("/api/v1/orders/{number}/address/take", { params: { path: { number: o.number } } })),
    onSuccess: () => void client.invalidateQueries(),
  });
  const c = o.ours.checked;
  if (!c) return null;
  const facts = [c.kind === "home" && "a home", c.kind === "business" && "a business", c.remote && "remote"].filter(Boolean).join(", ");
  return (
    <section aria-label="The address service says">
      <h2 className="mb-1">The address service says</h2>
      <p className="flex flex-wrap items-baseline gap-x-3">
        <Lamp state={!c.deliverable ? "stop" : c.suggestion ? "caution" : "go"}>
          {!c.deliverable ? "nothing can be delivered there" : c.suggestion ? "it would write it otherwise" : "it can be delivered to"}
        </Lamp>
        {facts && <span className="text-quiet">{facts}</span>}
        {c.note && <span>{c.note}</span>}
      </p>
      {c.suggestion && (
        <p className="mt-1 flex flex-wrap items-center gap-3">
          <span>
            {line(c.suggestion)} <span className="text-quiet">instead of</span> <s>{line(o.ship_to)}</s>
          </span>
          <Button onClick={() => put.mutate()} disabled={put.isPending}>
            Take this form
          </Button>
        </p>
      )}
      <Trouble error={put.error} />
    </section>
  );
}

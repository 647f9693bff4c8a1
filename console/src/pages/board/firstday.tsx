import { may, meQuery } from "../../api/queries";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, take, type Schema } from "../../api/client";
import { Button, Trouble } from "../../parts/controls";
import { Lamp } from "../../parts/lamp";

type Step = Schema<"RelayFirstStep">;

/** What each step is for, and where it is done. */
const steps: Record<Step["code"], { name: string; why: string; ways: [string, string][] }> = {
  place: {
    name: "A place",
    why: "Stock lies somewhere, and parcels leave from somewhere: a warehouse, a shop, a kitchen.",
    ways: [["/settings/places", "Add a place"]],
  },
  items: {
    name: "Items",
    why: "What you sell, once, however many channels sell it. They come from a table, by hand, or from the first channel.",
    ways: [
      ["/tables", "From a CSV table"],
      ["/items/new", "By hand"],
    ],
  },
  channel: {
    name: "A channel",
    why: "Where you sell. Its orders come here, and the quantity it shows follows your stock.",
    ways: [["/connectors", "Join a channel"]],
  },
  carrier: {
    name: "A carrier",
    why: "Who brings parcels: prices, labels and tracking numbers. Leave it out where somebody else ships for you.",
    ways: [
      ["/connectors", "Join a carrier"],
      ["/settings/senders", "Name one; numbers are typed"],
    ],
  },
  order: {
    name: "The first order",
    why: "It comes by itself once a channel is at work. One that somebody called in can be typed.",
    ways: [["/type", "Type an order"]],
  },
};

/** Leads a new company to its first order; it stays until all is done or it is dismissed. */
export function FirstDay() {
  const client = useQueryClient();
  const me = useQuery(meQuery);
  const day = useQuery({ queryKey: ["first-day"], queryFn: () => take(api.GET("/api/v1/first-day")), refetchOnWindowFocus: true });
  const leave = useMutation({
    mutationFn: (body: { step?: string; left: boolean }) => take(api.PUT("/api/v1/first-day", { body })),
    onSuccess: (d) => client.setQueryData(["first-day"], d),
  });
  const lead = may(me.data, "setup");
  if (!lead || !day.data || day.data.over) return null;
  const settled = day.data.steps.filter((s) => s.done || s.left).length;
  const next = day.data.steps.find((s) => !s.done && !s.left)?.code;
  return (
    <section aria-label="The first day" className="mb-6 border border-rule bg-sheet px-5 py-4">
      <div className="mb-2 flex flex-wrap items-baseline justify-between gap-3">
        <h2>
          The first day <span className="text-[12px] font-normal text-quiet">{`${settled} of ${day.data.steps.length} steps`}</span>
        </h2>
        <Button kind="quiet" onClick={() => leave.mutate({ left: true })}>
          I know my way; dismiss this
        </Button>
      </div>
      <Trouble error={leave.error} />
      <ol className="flex flex-col">
        {day.data.steps.map((s) => (
          <li
            key={s.code}
            aria-current={s.code === next ? "step" : undefined}
            className="grid grid-cols-[11rem_minmax(0,1fr)_auto] items-baseline gap-4 border-t border-rule py-2 max-md:grid-cols-1"
          >
            <Lamp state={s.done ? "go" : s.code === next ? "busy" : "idle"}>
              <span className={s.code === next ? "font-semibold" : ""}>{steps[s.code].name}</span>
            </Lamp>
            <span className={s.done || s.left ? "text-quiet" : ""}>{s.done ? "Done." : s.left ? "Left out." : steps[s.code].why}</span>
            <span className="flex flex-wrap items-center gap-3">
              {!s.done &&
                !s.left &&
                steps[s.code].ways.map(([to, words]) => (
                  <Link key={to + words} className="underline decoration-rule underline-offset-4 hover:decoration-ink" to={to}>
                    {words}
                  </Link>
                ))}
              {!s.done && (
                <Button
                  kind="quiet"
                  aria-label={`${s.left ? "Take it up" : "Leave it out"}: ${steps[s.code].name}`}
                  onClick={() => leave.mutate({ step: s.code, left: !s.left })}
                >
                  {s.left ? "Take it up" : "Leave it out"}
                </Button>
              )}
            </span>
          </li>
        ))}
      </ol>
    </section>
  );
}

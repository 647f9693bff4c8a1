import { locationsQuery } from "../../api/queries";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { api, take, type Schema } from "../../api/client";
import { Button, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";

type Listing = Schema<"Listing">;

export function overrideText(o: Schema<"StockOverride">): string {
  const parts = [];
  if (o.off) parts.push("offered nothing");
  if (o.off === false) parts.push("offered");
  if (o.buffer != null) parts.push(`${o.buffer} kept back`);
  if (o.buffer_percent != null) parts.push(`${o.buffer_percent}% kept back`);
  if (o.cap != null) parts.push(o.cap ? `at most ${o.cap}` : "no cap");
  if (o.floor != null) parts.push(`nothing below ${o.floor}`);
  if (o.share_below != null) parts.push(o.share_below ? `shared from ${o.share_below} down` : "not shared");
  if (o.share_over != null) parts.push(`${o.share_over}% more shown than there is`);
  if (o.sources?.length) parts.push("other locations");
  return parts.join(", ");
}

/** How one listing is offered differently; what stays empty is as the channel has it. */
export function Override({ listing, onDone }: { listing: Listing; onDone: () => void }) {
  const client = useQueryClient();
  const places = useQuery(locationsQuery);
  const [o, setO] = useState(listing.policy);
  const save = useMutation({
    mutationFn: () => take(api.PUT("/api/v1/listings/{id}/policy", { params: { path: { id: listing.id } }, body: o })),
    onSuccess: () => {
      for (const k of ["listings", "item", "why"]) void client.invalidateQueries({ queryKey: [k] });
      onDone();
    },
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    save.mutate();
  };
  const number = (key: "buffer" | "buffer_percent" | "cap" | "floor" | "share_below" | "share_over") => ({
    type: "number",
    min: 0,
    placeholder: "as the channel",
    value: o[key] ?? "",
    onChange: (e: { target: { value: string } }) => setO({ ...o, [key]: e.target.value === "" ? undefined : Number(e.target.value) }),
  });
  return (
    <form onSubmit={submit}>
      <h3 className="mb-2 font-semibold">How it is offered there</h3>
      <div className="mb-3 grid grid-cols-2 gap-3 sm:grid-cols-5">
        <Labelled label="Offered">
          <select
            className="field w-full"
            value={o.off == null ? "" : o.off ? "off" : "on"}
            onChange={(e) => setO({ ...o, off: e.target.value === "" ? undefined : e.target.value === "off" })}
          >
            <option value="">as the channel</option>
            <option value="on">yes</option>
            <option value="off">nothing</option>
          </select>
        </Labelled>
        <Labelled label="Kept back, units">
          <input className="field w-full" {...number("buffer")} />
        </Labelled>
        <Labelled label="Kept back, percent">
          <input className="field w-full" max={100} {...number("buffer_percent")} />
        </Labelled>
        <Labelled label="At most">
          <input className="field w-full" {...number("cap")} />
        </Labelled>
        <Labelled label="Nothing below">
          <input className="field w-full" {...number("floor")} />
        </Labelled>
        <Labelled label="Shared from, units down">
          <input className="field w-full" {...number("share_below")} />
        </Labelled>
        <Labelled label="Shown beyond, percent">
          <input className="field w-full" max={500} {...number("share_over")} />
        </Labelled>
      </div>
      <div className="mb-3 flex flex-wrap gap-x-5 gap-y-1">
        <span className="text-quiet">Only from (none: as the channel)</span>
        {places.data?.map((l) => (
          <label key={l.id} className="flex items-center gap-2">
            <input
              type="checkbox"
              checked={(o.sources ?? []).includes(l.id)}
              onChange={(e) => setO({ ...o, sources: (o.sources ?? []).filter((x) => x !== l.id).concat(e.target.checked ? [l.id] : []) })}
            />
            {l.name}
          </label>
        ))}
      </div>
      <Trouble error={save.error} />
      <Button kind="main" type="submit" disabled={save.isPending}>
        Offer it so
      </Button>
    </form>
  );
}

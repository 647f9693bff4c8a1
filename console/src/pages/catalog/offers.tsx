import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { Link, useSearchParams } from "react-router";
import { api, take, takeWith, type Schema } from "../../api/client";
import { Choice } from "../../parts/choice";
import { Button, Empty, Head, Loading, Sheet, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import { count, Money } from "../../parts/format";
import { Lamp } from "../../parts/lamp";
import { catalogStops, Rail } from "../../parts/rail";
import { useSearchText } from "../stock/stock";
import { Why } from "../stock/why";
import { ListingState } from "./state";

type Listing = Schema<"Listing">;
type Policy = Schema<"StockPolicy">;

/** What each channel is told, by which policy, and what it shows. */
export default function Offers() {
  const { search, typed, setTyped } = useSearchText();
  const [params] = useSearchParams();
  const connection = params.get("connection") ?? "";
  const [open, setOpen] = useState<Listing | null>(null);
  const connections = useQuery({ queryKey: ["connections"], queryFn: () => take(api.GET("/api/v1/connections")) });
  const places = useQuery({ queryKey: ["locations"], queryFn: () => take(api.GET("/api/v1/locations")) });
  const q = useInfiniteQuery({
    queryKey: ["listings", "matched", connection, search],
    initialPageParam: "",
    queryFn: ({ pageParam }) =>
      takeWith(
        api.GET("/api/v1/listings", {
          params: {
            query: {
              limit: 100,
              match: "matched",
              connection: connection || undefined,
              q: search || undefined,
              after: Number(new URLSearchParams(pageParam).get("after") ?? 0),
            },
          },
        }),
      ),
    getNextPageParam: (last) => last.next,
  });
  const rows = q.data?.pages.flatMap((p) => p.data) ?? [];
  const channels = connections.data?.filter((c) => c.side === "channel" && c.state === "on") ?? [];
  const name = (id: number) => places.data?.find((l) => l.id === id)?.name ?? "";
  return (
    <>
      <Head title="Offers" sub="The quantity each channel is told, and the policy behind it" />
      <Rail label="Catalog" stops={catalogStops} />
      <table className="ledger mb-6">
        <thead>
          <tr>
            <th>Channel</th>
            <th>Sells from</th>
            <th>Policy</th>
            <th>Quantities</th>
            <th />
          </tr>
        </thead>
        <tbody>
          {channels.map((c) => {
            const on = c.feeds.find((f) => f.kind === "stock out")?.on;
            return (
              <tr key={c.code}>
                <td className="font-medium">{c.name}</td>
                <td>{(c.settings.offer.sources ?? []).map(name).join(", ") || <span className="text-quiet">nowhere</span>}</td>
                <td>{policyText(c.settings.offer)}</td>
                <td>{on ? <Lamp state="go">sent</Lamp> : <Lamp state="idle">not sent</Lamp>}</td>
                <td>
                  <Link className="underline decoration-rule underline-offset-4" to={`/connections/${c.code}`}>
                    Change
                  </Link>
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
      <div className="mb-3 flex flex-wrap items-center gap-2">
        <input
          type="search"
          className="field w-56"
          placeholder="SKU, title  ( / )"
          aria-label="Search offers"
          value={typed}
          onChange={(e) => setTyped(e.target.value)}
        />
        <Choice name="connection" label="Channel" options={[["", "All channels"], ...channels.map((c) => [c.code, c.name] as const)]} />
      </div>
      <Trouble error={q.error} />
      {q.isPending && <Loading />}
      {q.isSuccess && rows.length === 0 && (
        <Empty>{search || connection ? "No offer fits." : "Offers stand here once listings are matched to items."}</Empty>
      )}
      {rows.length > 0 && (
        <table className="ledger">
          <thead>
            <tr>
              <th>Item</th>
              <th>Channel</th>
              <th>State</th>
              <th className="r">Price</th>
              <th className="r">Shows</th>
              <th>Should show</th>
              <th>Differs from the channel</th>
            </tr>
          </thead>
          <tbody>
            {rows.map((l) => (
              <tr key={l.id} data-open="" tabIndex={0} onClick={() => setOpen(l)} onKeyDown={(e) => e.key === "Enter" && setOpen(l)}>
                <td>
                  <span className="code font-medium">{l.item}</span> <span className="text-quiet">{l.title}</span>
                </td>
                <td className="whitespace-nowrap">{l.connection_name}</td>
                <td>
                  <ListingState state={l.state} reason={l.reason} />
                </td>
                <td className="r">
                  <Money minor={l.price} currency={l.currency} />
                </td>
                <td className="r fig">{count(l.shows)}</td>
                <td>
                  <Lamp state={!l.on ? "idle" : l.shows === l.allowed ? "go" : "busy"}>
                    <span className="code">{count(l.allowed)}</span>
                  </Lamp>
                </td>
                <td>{overrideText(l.policy)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {q.hasNextPage && (
        <div className="py-3">
          <Button onClick={() => void q.fetchNextPage()}>Show more</Button>
        </div>
      )}
      <Sheet open={open !== null} onClose={() => setOpen(null)} title={open ? `${open.item} on ${open.connection_name}` : ""} wide>
        {open && (
          <>
            <Override listing={open} onDone={() => setOpen(null)} />
            <hr className="my-5 border-rule" />
            <Why connection={open.connection} sku={open.number || open.sku} />
          </>
        )}
      </Sheet>
    </>
  );
}

function policyText(p: Policy): string {
  if (p.off) return "offers nothing";
  const parts = [];
  if (p.buffer) parts.push(`keeps ${p.buffer} back`);
  if (p.buffer_percent) parts.push(`keeps ${p.buffer_percent}% back`);
  if (p.cap) parts.push(`shows at most ${p.cap}`);
  if (p.floor) parts.push(`nothing below ${p.floor}`);
  return parts.join(", ") || "all that is available";
}

export function overrideText(o: Schema<"StockOverride">): string {
  const parts = [];
  if (o.off) parts.push("offered nothing");
  if (o.off === false) parts.push("offered");
  if (o.buffer != null) parts.push(`${o.buffer} kept back`);
  if (o.buffer_percent != null) parts.push(`${o.buffer_percent}% kept back`);
  if (o.cap != null) parts.push(o.cap ? `at most ${o.cap}` : "no cap");
  if (o.floor != null) parts.push(`nothing below ${o.floor}`);
  if (o.sources?.length) parts.push("other locations");
  return parts.join(", ");
}

/** How one listing is offered differently; what stays empty is as the channel has it. */
export function Override({ listing, onDone }: { listing: Listing; onDone: () => void }) {
  const client = useQueryClient();
  const places = useQuery({ queryKey: ["locations"], queryFn: () => take(api.GET("/api/v1/locations")) });
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
  const number = (key: "buffer" | "buffer_percent" | "cap" | "floor") => ({
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

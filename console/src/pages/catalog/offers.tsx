import { connectionsQuery, locationsQuery } from "../../api/queries";
import { Override, overrideText } from "../../shared/goods/override";
import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, takeWith, type Schema } from "../../api/client";
import { Choice } from "../../parts/choice";
import { Empty, Head, Loading, Sheet, ShowMore, Trouble } from "../../parts/controls";
import { count, Money } from "../../parts/format";
import { Lamp } from "../../parts/lamp";
import { catalogStops, Rail } from "../../parts/rail";
import { useSearchText } from "../../parts/search";
import { SearchField } from "../../parts/searchfield";
import { SharingRehearsal } from "../../shared/goods/sharing";
import { Why } from "../../shared/goods/why";
import { ListingState } from "../../shared/goods/state";

type Listing = Schema<"Listing">;
type Policy = Schema<"StockPolicy">;

/** What each channel is told, by which policy, and what it shows. */
export default function Offers() {
  const { search, typed, setTyped } = useSearchText();
  const [params] = useSearchParams();
  const connection = params.get("connection") ?? "";
  const [open, setOpen] = useState<Listing | null>(null);
  const connections = useQuery(connectionsQuery);
  const places = useQuery(locationsQuery);
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
      <SharingRehearsal />
      <div className="mb-3 flex flex-wrap items-center gap-2">
        <SearchField of="offers" by="SKU, title" value={typed} onChange={setTyped} />
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
      <ShowMore of={q} />
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
  if (p.share_below) parts.push(`shares from ${p.share_below} down${p.share_over ? `, ${p.share_over}% beyond` : ""}`);
  return parts.join(", ") || "all that is available";
}

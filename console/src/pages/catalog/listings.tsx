import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { Link, useSearchParams } from "react-router";
import { api, take, takeWith, type Schema } from "../../api/client";
import { Choice } from "../../parts/choice";
import { Button, Empty, Head, Loading, Sheet, ShowMore, Trouble } from "../../parts/controls";
import { count, Money } from "../../parts/format";
import { Lamp } from "../../parts/lamp";
import { catalogStops, Rail } from "../../parts/rail";
import { useSearchText } from "../../parts/search";
import { SearchField } from "../../parts/searchfield";
import { ListingState } from "../../shared/goods/state";

type Listing = Schema<"Listing">;
type Act = {
  id: number;
  what: "match" | "unmatch" | "create-item" | "ignore";
  body: Record<string, unknown>;
  said: string;
  undo?: { what: Act["what"]; body: Record<string, unknown> };
};

/** Which item each listing is. Those that wait come with what they may be, and why. */
export default function Listings() {
  const client = useQueryClient();
  const [params] = useSearchParams();
  const { search, typed, setTyped } = useSearchText();
  const match = (params.get("match") ?? "to match") as "" | "to match" | "matched" | "ignored";
  const connection = params.get("connection") ?? "";
  const [other, setOther] = useState<Listing | null>(null);
  const [done, setDone] = useState<Act | null>(null);
  const counts = useQuery({ queryKey: ["listings", "counts"], queryFn: () => take(api.GET("/api/v1/listings/counts")) });
  const q = useInfiniteQuery({
    queryKey: ["listings", match, connection, search],
    initialPageParam: "",
    queryFn: ({ pageParam }) =>
      takeWith(
        api.GET("/api/v1/listings", {
          params: {
            query: {
              limit: 50,
              match: match === ("all" as string) ? "" : match,
              connection: connection || undefined,
              q: search || undefined,
              after: Number(new URLSearchParams(pageParam).get("after") ?? 0),
            },
          },
        }),
      ),
    getNextPageParam: (last) => last.next,
  });
  const act = useMutation({
    mutationFn: (a: Act) => {
      const p = { params: { path: { id: a.id } } };
      if (a.what === "match") return take(api.POST("/api/v1/listings/{id}/match", { ...p, body: a.body as { item: string } }));
      if (a.what === "create-item") return take(api.POST("/api/v1/listings/{id}/create-item", { ...p, body: a.body }));
      if (a.what === "ignore") return take(api.POST("/api/v1/listings/{id}/ignore", { ...p, body: a.body as { ignore: boolean } }));
      return take(api.POST("/api/v1/listings/{id}/unmatch", p));
    },
    onSuccess: (_, a) => {
      setDone(a.said ? a : null);
      setOther(null);
      for (const k of ["listings", "items", "orders", "board"]) void client.invalidateQueries({ queryKey: [k] });
    },
  });
  const rows = q.data?.pages.flatMap((p) => p.data) ?? [];
  const is = (l: Listing, item: string) =>
    act.mutate({
      id: l.id,
      what: "match",
      body: { item },
      said:
        `${l.title} on ${l.connection_name} is ${item} now.` +
        (l.waiting ? ` ${l.waiting} waiting ${l.waiting === 1 ? "order goes" : "orders go"} on.` : ""),
      undo: { what: "unmatch", body: {} },
    });
  return (
    <>
      <Head title="Listings" sub={counts.data && <Counts list={counts.data} />} />
      <Rail label="Catalog" stops={catalogStops} />
      <div className="mb-3 flex flex-wrap items-center gap-2">
        <SearchField of="listings" by="SKU, title, number" value={typed} onChange={setTyped} />
        <Choice
          name="match"
          label="Which"
          options={[
            ["", "To match"],
            ["matched", "Matched"],
            ["ignored", "Ignored"],
            ["all", "All"],
          ]}
        />
        <Choice
          name="connection"
          label="Channel"
          options={[["", "All channels"], ...(counts.data ?? []).map((c) => [c.connection, c.connection_name] as const)]}
        />
      </div>
      {done && (
        <p role="status" className="mb-3 flex flex-wrap items-center gap-3 border-l-4 border-go bg-sheet px-3 py-2">
          {done.said}
          {done.undo && (
            <Button kind="quiet" onClick={() => act.mutate({ id: done.id, what: done.undo!.what, body: done.undo!.body, said: "" })}>
              Undo
            </Button>
          )}
        </p>
      )}
      <Trouble error={q.error ?? act.error} />
      {q.isPending && <Loading />}
      {q.isSuccess && rows.length === 0 && (
        <Empty>
          {match === "to match" && !search
            ? "Every listing is an item of ours, or is ignored on purpose. New ones that are in doubt stand here."
            : "No listing fits."}
        </Empty>
      )}
      {rows.length > 0 && (
        <table className="ledger">
          <thead>
            <tr>
              <th>Listing</th>
              <th className="max-md:hidden">Channel</th>
              <th className="r max-md:hidden">Price</th>
              <th>{match === "to match" ? "It may be" : "Item"}</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {rows.map((l) => (
              <tr key={l.id} data-testid="listing">
                <td className="max-w-xs">
                  <div className="font-medium">{l.title || "(no title)"}</div>
                  <div className="text-quiet">
                    <span className="code">{l.sku || "no SKU"}</span> {l.gtin && <span className="code">{l.gtin}</span>}
                  </div>
                  {l.doubt && <div className="text-[12px] text-caution">{l.doubt[0]!.toUpperCase() + l.doubt.slice(1)}</div>}
                  {!!l.waiting && (
                    <Lamp state="caution">
                      {l.waiting} {l.waiting === 1 ? "order waits" : "orders wait"} for it
                    </Lamp>
                  )}
                </td>
                <td className="max-md:hidden">
                  {l.url ? (
                    <a className="underline decoration-rule underline-offset-4" href={l.url} target="_blank" rel="noreferrer">
                      {l.connection_name}
                    </a>
                  ) : (
                    l.connection_name
                  )}
                  <div className="code text-quiet">{l.number}</div>
                  <ListingState state={l.state} reason={l.reason} />
                </td>
                <td className="r max-md:hidden">
                  <Money minor={l.price} currency={l.currency} />
                </td>
                <td>
                  {l.item ? (
                    <>
                      <Link className="code underline decoration-rule underline-offset-4" to={`/items/${encodeURIComponent(l.item)}`}>
                        {l.item}
                      </Link>
                      <div className="text-[12px] text-quiet">{l.matched_by}</div>
                    </>
                  ) : l.ignored_by ? (
                    <Lamp state="idle">ignored by {l.ignored_by}</Lamp>
                  ) : (
                    <ul className="flex flex-col gap-1.5">
                      {(l.suggestions ?? []).slice(0, 3).map((s) => (
                        <li key={s.sku} className="flex items-baseline gap-3">
                          <Button disabled={act.isPending} onClick={() => is(l, s.sku)} aria-label={`${l.title} is ${s.sku}`}>
                            <span className="code">{s.sku}</span>
                          </Button>
                          <span>
                            <span className={`code ${s.score >= 60 ? "font-medium" : "text-quiet"}`}>{s.score}%</span> {s.name}
                            <span className="block text-[12px] text-quiet">{s.reasons.join(", ")}</span>
                          </span>
                        </li>
                      ))}
                      {(l.suggestions ?? []).length === 0 && <li className="text-quiet">Nothing of ours is like it.</li>}
                    </ul>
                  )}
                </td>
                <td className="whitespace-nowrap">
                  <div className="flex flex-col items-start gap-1">
                    {l.item ? (
                      <Button
                        kind="quiet"
                        onClick={() =>
                          act.mutate({
                            id: l.id,
                            what: "unmatch",
                            body: {},
                            said: `${l.title} waits to be matched again.`,
                            undo: { what: "match", body: { item: l.item } },
                          })
                        }
                      >
                        End match
                      </Button>
                    ) : l.ignored_by ? (
                      <Button
                        kind="quiet"
                        onClick={() =>
                          act.mutate({ id: l.id, what: "ignore", body: { ignore: false }, said: `${l.title} is looked at again.` })
                        }
                      >
                        Notice again
                      </Button>
                    ) : (
                      <>
                        <Button kind="quiet" onClick={() => setOther(l)}>
                          Another, or new
                        </Button>
                        <Button
                          kind="quiet"
                          onClick={() =>
                            act.mutate({
                              id: l.id,
                              what: "ignore",
                              body: { ignore: true },
                              said: `${l.title} is left alone.`,
                              undo: { what: "ignore", body: { ignore: false } },
                            })
                          }
                        >
                          Ignore
                        </Button>
                      </>
                    )}
                  </div>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <ShowMore of={q} />
      <Sheet open={other !== null} onClose={() => setOther(null)} title={other ? `Which item is “${other.title}”?` : ""}>
        {other && (
          <Other
            listing={other}
            onMatch={(item, every) =>
              act.mutate({
                id: other.id,
                what: "match",
                body: { item, every },
                said: `${other.title} is ${item} now.`,
                undo: { what: "unmatch", body: {} },
              })
            }
            onCreate={(sku) =>
              act.mutate({ id: other.id, what: "create-item", body: { sku }, said: `Item ${sku} made from ${other.title}.` })
            }
            error={act.error}
          />
        )}
      </Sheet>
    </>
  );
}

function Counts({ list }: { list: Schema<"StoreListingCount">[] }) {
  const sum = (f: (c: Schema<"StoreListingCount">) => number) => list.reduce((n, c) => n + f(c), 0);
  return (
    <>
      {count(sum((c) => c.matched))} matched, {count(sum((c) => c.to_match))} to match, {count(sum((c) => c.ignored))} ignored on purpose
    </>
  );
}

/** Another item than those suggested, or a new one. */
function Other({
  listing,
  onMatch,
  onCreate,
  error,
}: {
  listing: Listing;
  onMatch: (item: string, every: boolean) => void;
  onCreate: (sku: string) => void;
  error: unknown;
}) {
  const [text, setText] = useState("");
  const [sku, setSku] = useState(listing.sku);
  const [every, setEvery] = useState(false);
  const found = useQuery({
    queryKey: ["items", "find", text],
    enabled: text.length > 1,
    queryFn: () => take(api.GET("/api/v1/items", { params: { query: { limit: 8, q: text } } })),
  });
  const create = (e: FormEvent) => {
    e.preventDefault();
    onCreate(sku);
  };
  return (
    <>
      <Trouble error={error} />
      <h3 className="mb-1 font-semibold">An item that is there</h3>
      <input
        className="field mb-2 w-full"
        autoFocus
        placeholder="SKU, name or GTIN"
        aria-label="Find an item"
        value={text}
        onChange={(e) => setText(e.target.value)}
      />
      {listing.sku && (
        <label className="mb-2 flex items-center gap-2">
          <input type="checkbox" checked={every} onChange={(e) => setEvery(e.target.checked)} />
          every listing there that carries <span className="code">{listing.sku}</span>: fold them into one item
        </label>
      )}
      <ul className="mb-5">
        {found.data?.map((i) => (
          <li key={i.sku} className="flex items-baseline gap-3 border-b border-rule py-1">
            <Button onClick={() => onMatch(i.sku, every)}>
              <span className="code">{i.sku}</span>
            </Button>
            {i.name} <span className="text-quiet">{i.options}</span>
          </li>
        ))}
      </ul>
      <h3 className="mb-1 font-semibold">A new item</h3>
      <form onSubmit={create} className="flex items-center gap-2">
        <input className="field code" required aria-label="SKU of the new item" value={sku} onChange={(e) => setSku(e.target.value)} />
        <Button type="submit">Make an item of it</Button>
      </form>
      <p className="mt-1 text-[12px] text-quiet">
        With its title and price. To keep it apart from an item with the same SKU, give it a SKU of its own.
      </p>
    </>
  );
}

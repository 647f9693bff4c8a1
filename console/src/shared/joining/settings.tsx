import { locationsQuery } from "../../api/queries";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, take } from "../../api/client";
import { Button, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import { number, type Join, type Part, type Settings } from "./part";
import { MoneyPart } from "./settingsmoney";
import { OrdersPart } from "./settingsorders";

/** What is decided about a connection. Everything but the locations has a safe default. */
export function SettingsForm({ join, onSaved, verb }: { join: Join; onSaved: () => void; verb: string }) {
  const code = join.connection.code;
  const [s, setS] = useState<Settings>(join.connection.settings);
  const places = useQuery(locationsQuery);
  const save = useMutation({
    mutationFn: () =>
      take(
        api.PUT("/api/v1/connections/{code}/settings", {
          params: { path: { code }, header: { "If-Match": `"${join.connection.revision}"` } },
          body: s,
        }),
      ),
    onSuccess: onSaved,
  });
  const put = (change: Partial<Settings>) => setS({ ...s, ...change });
  const offer = (change: Partial<Settings["offer"]>) => put({ offer: { ...s.offer, ...change } });
  const channel = join.connection.side === "channel";
  const sources = s.offer.sources ?? [];
  const part: Part = { s, put, join, places: places.data ?? [] };
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate();
      }}
    >
      {(channel || join.connector.can.in.includes("stock in")) && (
        <fieldset className="mb-5">
          <legend className="mb-1 font-semibold">Stock</legend>
          <div className="grid gap-3 sm:grid-cols-2">
            <div className="sm:col-span-2">
              <span className="mb-1 block text-[12px] text-quiet">
                {channel ? "Locations whose stock is sold there, the first one first" : "Location that is meant when none is named"}
              </span>
              <div className="flex flex-wrap gap-x-5 gap-y-1">
                {places.data?.map((l) => (
                  <label key={l.id} className="flex items-center gap-2">
                    <input
                      type="checkbox"
                      checked={sources.includes(l.id)}
                      onChange={(e) => offer({ sources: e.target.checked ? [...sources, l.id] : sources.filter((x) => x !== l.id) })}
                    />
                    {l.name}
                  </label>
                ))}
              </div>
            </div>
            {channel && (
              <>
                <Labelled label="Kept back, units" help="So many are never shown.">
                  <input className="field w-28" {...number(s.offer.buffer, (n: number) => offer({ buffer: n }))} />
                </Labelled>
                <Labelled label="Kept back beside, percent" help="Of what is available, rounded up.">
                  <input
                    className="field w-28"
                    max={100}
                    {...number(s.offer.buffer_percent, (n: number) => offer({ buffer_percent: n }))}
                  />
                </Labelled>
                <Labelled label="Show nothing below, units" help="Fewer than this many are not shown at all.">
                  <input className="field w-28" {...number(s.offer.floor, (n: number) => offer({ floor: n }))} />
                </Labelled>
                <Labelled label="Never show more than, units" help="0 shows all there is.">
                  <input className="field w-28" {...number(s.offer.cap, (n: number) => offer({ cap: n }))} />
                </Labelled>
                <Labelled
                  label="Share the last units from, units down"
                  help="Channels that share show no more together than there is, each by its pace. 0: it shows all."
                >
                  <input
                    className="field w-28"
                    {...number(s.offer.share_below ?? 0, (n: number) =>
                      offer({ share_below: n, share_over: n ? s.offer.share_over : undefined }),
                    )}
                  />
                </Labelled>
                {!!s.offer.share_below && (
                  <Labelled label="Show beyond what there is, percent" help="0: no unit is sold twice. More leaves fewer unsold.">
                    <input className="field w-28" max={500} {...number(s.offer.share_over ?? 0, (n: number) => offer({ share_over: n }))} />
                  </Labelled>
                )}
              </>
            )}
            {channel && (
              <Labelled label="A quantity that is set there">
                <select
                  className="field w-full"
                  value={s.stock_in ?? ""}
                  onChange={(e) => put({ stock_in: e.target.value as Settings["stock_in"] })}
                >
                  <option value="">is replaced by ours</option>
                  <option value="take in">counts, and becomes ours</option>
                </select>
              </Labelled>
            )}
          </div>
        </fieldset>
      )}
      {channel && <OrdersPart {...part} />}
      {channel && (
        <fieldset className="mb-5">
          <legend className="mb-1 font-semibold">Catalog</legend>
          <div className="grid gap-3 sm:grid-cols-2">
            <div>
              <span className="mb-1 block text-[12px] text-quiet">A listing becomes an item of ours by itself when it has</span>
              <div className="flex flex-wrap gap-x-4 gap-y-1">
                {[
                  ["sku", "the same SKU"],
                  ["near sku", "the same but for signs"],
                  ["gtin", "the same GTIN"],
                ].map(([way, say]) => {
                  const all = ["sku", "near sku", "gtin"];
                  const by = s.match_by ?? all;
                  return (
                    <label key={way} className="flex items-center gap-2">
                      <input
                        type="checkbox"
                        checked={by.includes(way!)}
                        onChange={(e) => {
                          const now = all.filter((w) => (w === way ? e.target.checked : by.includes(w)));
                          put({ match_by: now.length === 3 ? undefined : now });
                        }}
                      />
                      {say}
                    </label>
                  );
                })}
              </div>
            </div>
            <Labelled label="Apply suggestions from, percent" help="0 leaves every suggestion to a person.">
              <input className="field w-28" max={100} {...number(s.match_above, (n) => put({ match_above: n }))} />
            </Labelled>
            {join.connector.can.out.includes("items out") && (
              <>
                <Labelled label="List all items with the mark" help="New ones go out by themselves. Empty lists only what is chosen.">
                  <input
                    className="field w-full"
                    value={s.publish?.mark ?? ""}
                    onChange={(e) => put({ publish: { ...s.publish, mark: e.target.value.toLowerCase().trim() } })}
                  />
                </Labelled>
                <div>
                  <span className="mb-1 block text-[12px] text-quiet">Belongs to the channel and is never sent</span>
                  <div className="flex flex-wrap gap-x-4 gap-y-1">
                    {["title", "description", "category", "price", "images"].map((f) => {
                      const theirs = s.publish?.theirs ?? [];
                      return (
                        <label key={f} className="flex items-center gap-2">
                          <input
                            type="checkbox"
                            checked={theirs.includes(f)}
                            onChange={(e) =>
                              put({ publish: { ...s.publish, theirs: theirs.filter((x) => x !== f).concat(e.target.checked ? [f] : []) } })
                            }
                          />
                          {f}
                        </label>
                      );
                    })}
                  </div>
                </div>
              </>
            )}
          </div>
        </fieldset>
      )}
      <MoneyPart {...part} />
      <Trouble error={save.error} />
      <div className="sticky -bottom-5 z-10 -mb-5 border-t border-rule bg-sheet py-3">
        <Button kind="main" type="submit" disabled={save.isPending}>
          {verb}
        </Button>
      </div>
    </form>
  );
}

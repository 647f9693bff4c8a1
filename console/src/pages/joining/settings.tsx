import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, take, type Schema } from "../../api/client";
import { Button, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import type { Join } from "./join";

type Settings = Schema<"RelaySettings">;

/** What is decided about a connection. Everything but the locations has a safe default. */
export function SettingsForm({ join, onSaved, verb }: { join: Join; onSaved: () => void; verb: string }) {
  const code = join.connection.code;
  const [s, setS] = useState<Settings>(join.connection.settings);
  const places = useQuery({ queryKey: ["locations"], queryFn: () => take(api.GET("/api/v1/locations")) });
  const save = useMutation({
    mutationFn: () => take(api.PUT("/api/v1/connections/{code}/settings", { params: { path: { code }, header: { "If-Match": `"${join.connection.revision}"` } }, body: s })),
    onSuccess: onSaved,
  });
  const put = (part: Partial<Settings>) => setS({ ...s, ...part });
  const offer = (part: Partial<Settings["offer"]>) => setS({ ...s, offer: { ...s.offer, ...part } });
  const channel = join.connection.side === "channel";
  const sources = s.offer.sources ?? [];
  const text = (key: "time_zone" | "number_prefix" | "anonymous" | "price_list" | "tax_name" | "sender") => ({ value: s[key] ?? "", onChange: (e: { target: { value: string } }) => put({ [key]: e.target.value }) });
  const number = (value: number | undefined, set: (n: number) => void) => ({ type: "number", min: 0, value: value ?? 0, onChange: (e: { target: { value: string } }) => set(Number(e.target.value)) });
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
              <span className="mb-1 block text-[12px] text-quiet">{channel ? "Locations whose stock is sold there, the first one first" : "Location that is meant when none is named"}</span>
              <div className="flex flex-wrap gap-x-5 gap-y-1">
                {places.data?.map((l) => (
                  <label key={l.id} className="flex items-center gap-2">
                    <input type="checkbox" checked={sources.includes(l.id)} onChange={(e) => offer({ sources: e.target.checked ? [...sources, l.id] : sources.filter((x) => x !== l.id) })} />
                    {l.name}
                  </label>
                ))}
              </div>
            </div>
            {channel && (
              <>
                <Labelled label="Kept back, units" help="So many are never shown.">
                  <input className="field w-28" {...number(s.offer.buffer, (n) => offer({ buffer: n }))} />
                </Labelled>
                <Labelled label="Kept back beside, percent" help="Of what is available, rounded up.">
                  <input className="field w-28" max={100} {...number(s.offer.buffer_percent, (n) => offer({ buffer_percent: n }))} />
                </Labelled>
                <Labelled label="Show nothing below, units" help="Fewer than this many are not shown at all.">
                  <input className="field w-28" {...number(s.offer.floor, (n) => offer({ floor: n }))} />
                </Labelled>
                <Labelled label="Never show more than, units" help="0 shows all there is.">
                  <input className="field w-28" {...number(s.offer.cap, (n) => offer({ cap: n }))} />
                </Labelled>
              </>
            )}
            {channel && (
              <Labelled label="A quantity that is set there">
                <select className="field w-full" value={s.stock_in ?? ""} onChange={(e) => put({ stock_in: e.target.value as Settings["stock_in"] })}>
                  <option value="">is replaced by ours</option>
                  <option value="take in">counts, and becomes ours</option>
                </select>
              </Labelled>
            )}
          </div>
        </fieldset>
      )}
      {channel && (
        <fieldset className="mb-5">
          <legend className="mb-1 font-semibold">Orders</legend>
          <div className="grid gap-3 sm:grid-cols-2">
            <Labelled label="A new order" help="What later steps do by themselves is a matter of rules.">
              <select className="field w-full" value={s.carry ?? ""} onChange={(e) => put({ carry: e.target.value as Settings["carry"] })}>
                <option value="">goes on until it can be picked</option>
                <option value="look">waits for a look</option>
              </select>
            </Labelled>
            <Labelled label="Numbers begin with" help="Empty uses the company's series.">
              <input className="field code w-28" maxLength={8} {...text("number_prefix")} />
            </Labelled>
            <div>
              <span className="mb-1 block text-[12px] text-quiet">Taken from the channel when they are</span>
              <div className="flex flex-wrap gap-x-4 gap-y-1">
                {["pending", "open", "shipped", "cancelled"].map((w) => {
                  const take = s.take ?? [];
                  const all = take.length === 0;
                  return (
                    <label key={w} className="flex items-center gap-2">
                      <input
                        type="checkbox"
                        checked={all || take.includes(w)}
                        onChange={(e) => {
                          const now = (all ? ["pending", "open", "shipped", "cancelled"] : take).filter((x) => x !== w).concat(e.target.checked ? [w] : []);
                          put({ take: now.length === 4 ? [] : now });
                        }}
                      />
                      {w}
                    </label>
                  );
                })}
              </div>
            </div>
            <Labelled label="How far back to look, days" help="For the first import; 0 is 30 days.">
              <input className="field w-28" {...number(s.look_back_days, (n) => put({ look_back_days: n }))} />
            </Labelled>
            <Labelled label="Customer of orders without a buyer">
              <input className="field w-full" {...text("anonymous")} />
            </Labelled>
            <Labelled label="Orders of a day">
              <select className="field w-full" value={s.merge ?? ""} onChange={(e) => put({ merge: e.target.value as Settings["merge"] })}>
                <option value="">stay single</option>
                <option value="per day">are merged into one (kept for later; nothing merges yet)</option>
              </select>
            </Labelled>
            <label className="flex items-center gap-2 sm:col-span-2">
              <input type="checkbox" checked={(s.keep ?? []).includes("ship_to")} onChange={(e) => put({ keep: (s.keep ?? []).filter((k) => k !== "ship_to").concat(e.target.checked ? ["ship_to"] : []) })} />
              An address that was corrected here is never overwritten from there
            </label>
          </div>
        </fieldset>
      )}
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
                  <input className="field w-full" value={s.publish?.mark ?? ""} onChange={(e) => put({ publish: { ...s.publish, mark: e.target.value.toLowerCase().trim() } })} />
                </Labelled>
                <div>
                  <span className="mb-1 block text-[12px] text-quiet">Belongs to the channel and is never sent</span>
                  <div className="flex flex-wrap gap-x-4 gap-y-1">
                    {["title", "description", "category", "price", "images"].map((f) => {
                      const theirs = s.publish?.theirs ?? [];
                      return (
                        <label key={f} className="flex items-center gap-2">
                          <input type="checkbox" checked={theirs.includes(f)} onChange={(e) => put({ publish: { ...s.publish, theirs: theirs.filter((x) => x !== f).concat(e.target.checked ? [f] : []) } })} />
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
      <fieldset className="mb-5">
        <legend className="mb-1 font-semibold">Money and time</legend>
        <div className="grid gap-3 sm:grid-cols-2">
          <Labelled label="Time zone" help="In which the other side writes times without a zone, such as UTC or Etc/GMT-1.">
            <input className="field code w-full" {...text("time_zone")} />
          </Labelled>
          {channel && (
            <>
              <Labelled label="Totals may differ by, hundredths">
                <input className="field w-28" {...number(s.tolerance, (n) => put({ tolerance: n }))} />
              </Labelled>
              <Labelled label="Prices there">
                <select className="field w-full" value={s.prices_include_tax ?? ""} onChange={(e) => put({ prices_include_tax: e.target.value as Settings["prices_include_tax"] })}>
                  <option value="">are as the channel says</option>
                  <option value="yes">include tax</option>
                  <option value="no">are without tax</option>
                </select>
              </Labelled>
              <Labelled label="Price list">
                <input className="field w-full" {...text("price_list")} />
              </Labelled>
              <Labelled label="Name of the tax">
                <input className="field w-full" {...text("tax_name")} />
              </Labelled>
              <Labelled label="Rate of the tax, thousandths">
                <input className="field w-28" {...number(s.tax_permille, (n) => put({ tax_permille: n }))} />
              </Labelled>
              <Labelled label="Preparation time, minutes">
                <input className="field w-28" {...number(s.prep_minutes, (n) => put({ prep_minutes: n }))} />
              </Labelled>
              <Labelled label="Ship as" help="Name of the sender on labels; empty uses the location's.">
                <input className="field w-full" {...text("sender")} />
              </Labelled>
            </>
          )}
        </div>
      </fieldset>
      <Trouble error={save.error} />
      <Button kind="main" type="submit" disabled={save.isPending}>
        {verb}
      </Button>
    </form>
  );
}

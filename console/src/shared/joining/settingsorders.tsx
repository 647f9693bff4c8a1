import { Labelled } from "../../parts/fields";
import { number, text, type Part, type Settings } from "./part";

const meanings = ["pending", "open", "shipped", "cancelled"];

/** Which orders are taken in, under which number, how far they go, and what is told back. */
export function OrdersPart(part: Part) {
  const { s, put, join, places } = part;
  const can = join.connector.can.out;
  const taken = s.take?.length ? s.take : meanings;
  return (
    <fieldset className="mb-5">
      <legend className="mb-1 font-semibold">Orders</legend>
      <div className="grid gap-3 sm:grid-cols-2">
        <Labelled label="A new order" help="What later steps do by themselves is a matter of rules.">
          <select className="field w-full" value={s.carry ?? ""} onChange={(e) => put({ carry: e.target.value as Settings["carry"] })}>
            <option value="">goes on until it can be picked</option>
            <option value="look">waits for a look</option>
          </select>
        </Labelled>
        <div>
          <span className="mb-1 block text-[12px] text-quiet">Taken from the channel when they are</span>
          <div className="flex flex-wrap gap-x-4 gap-y-1">
            {meanings.map((w) => (
              <label key={w} className="flex items-center gap-2">
                <input
                  type="checkbox"
                  checked={taken.includes(w)}
                  onChange={(e) => {
                    const now = meanings.filter((x) => (x === w ? e.target.checked : taken.includes(x)));
                    put({ take: now.length === meanings.length ? [] : now });
                  }}
                />
                {w}
              </label>
            ))}
          </div>
        </div>
        <Labelled label="Numbers begin with" help="Empty uses the company's series.">
          <input className="field code w-28" maxLength={8} {...text(part, "number_prefix")} />
        </Labelled>
        <Labelled label="… of those somebody else fulfils" help="Empty uses the same series as the others.">
          <input className="field code w-28" maxLength={8} {...text(part, "channel_prefix")} />
        </Labelled>
        <Labelled
          label="What the channel ships itself lies at"
          help="Its orders take from there, and its own word on quantities counts there."
        >
          <select className="field w-full" value={s.own_location ?? ""} onChange={(e) => put({ own_location: e.target.value })}>
            <option value="">no location of ours</option>
            {places.map((l) => (
              <option key={l.id} value={l.code}>
                {l.name}
              </option>
            ))}
          </select>
        </Labelled>
        <Labelled label="How far back to look, days" help="For the first import; 0 is 30 days.">
          <input className="field w-28" {...number(s.look_back_days, (n) => put({ look_back_days: n }))} />
        </Labelled>
        {can.includes("answers out") && (
          <>
            <Labelled label="Orders that want an answer" help="A countdown runs in the list of orders and on the order.">
              <select
                className="field w-full"
                value={s.answer ?? ""}
                onChange={(e) => put({ answer: e.target.value as Settings["answer"] })}
              >
                <option value="">are answered by a person</option>
                <option value="accept">are accepted at once</option>
              </select>
            </Labelled>
            <Labelled label="Preparation time, minutes" help="The ready time that is told: so long after the answer.">
              <input className="field w-28" {...number(s.prep_minutes, (n) => put({ prep_minutes: n }))} />
            </Labelled>
          </>
        )}
        <Labelled label="Customer of orders without a buyer">
          <input className="field w-full" {...text(part, "anonymous")} />
        </Labelled>
        <Labelled label="One customer for all orders" help="Empty: buyers are known by their e-mail.">
          <input className="field w-full" {...text(part, "generic_customer")} />
        </Labelled>
        <Labelled label="Orders of a day">
          <select className="field w-full" value={s.merge ?? ""} onChange={(e) => put({ merge: e.target.value as Settings["merge"] })}>
            <option value="">stay single</option>
            <option value="per day">that are done become one summary</option>
          </select>
        </Labelled>
        {s.merge && (
          <Labelled label="The day ends at" help="On the clocks of the time zone below.">
            <input type="time" className="field w-28" value={s.merge_at || "00:00"} onChange={(e) => put({ merge_at: e.target.value })} />
          </Labelled>
        )}
        <label className="flex items-center gap-2 sm:col-span-2">
          <input
            type="checkbox"
            checked={(s.keep ?? []).includes("ship_to")}
            onChange={(e) => put({ keep: (s.keep ?? []).filter((k) => k !== "ship_to").concat(e.target.checked ? ["ship_to"] : []) })}
          />
          An address that was corrected here is never overwritten from there
        </label>
        {can.includes("states out") && (
          <label className="flex items-center gap-2 sm:col-span-2">
            <input type="checkbox" checked={s.tell_taken ?? false} onChange={(e) => put({ tell_taken: e.target.checked })} />
            Tell the channel that an order was taken in
          </label>
        )}
      </div>
    </fieldset>
  );
}

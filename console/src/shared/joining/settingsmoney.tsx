import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { sendersQuery } from "../../api/queries";
import { Labelled } from "../../parts/fields";
import { number, text, type Part, type Settings } from "./part";

/** Time zone of the other side, and for channels how its prices, taxes and payments are read and checked. */
export function MoneyPart(part: Part) {
  const { s, put, join } = part;
  const senders = useQuery(sendersQuery);
  return (
    <fieldset className="mb-5">
      <legend className="mb-1 font-semibold">Money and time</legend>
      <div className="grid gap-3 sm:grid-cols-2">
        <Labelled label="Time zone" help="In which the other side writes times without a zone, such as UTC or Etc/GMT-1.">
          <input className="field code w-full" {...text(part, "time_zone")} />
        </Labelled>
        {join.connection.side === "channel" && (
          <>
            <Labelled label="Price list">
              <input className="field w-full" {...text(part, "price_list")} />
            </Labelled>
            <Labelled label="Totals may differ by, hundredths" help="More than that holds the order, with the arithmetic.">
              <input className="field w-28" {...number(s.tolerance, (n) => put({ tolerance: n }))} />
            </Labelled>
            <Labelled label="Differences within it are booked to">
              <input className="field w-full" placeholder="differences" {...text(part, "difference_account")} />
            </Labelled>
            <Labelled label="Prices there">
              <select
                className="field w-full"
                value={s.prices_include_tax ?? ""}
                onChange={(e) => put({ prices_include_tax: e.target.value as Settings["prices_include_tax"] })}
              >
                <option value="">are as the channel says</option>
                <option value="yes">include tax</option>
                <option value="no">are without tax</option>
              </select>
            </Labelled>
            <Labelled label="Tax is rounded there">
              <select
                className="field w-full"
                value={s.tax_rounding ?? ""}
                onChange={(e) => put({ tax_rounding: e.target.value as Settings["tax_rounding"] })}
              >
                <option value="">either way is right</option>
                <option value="line">on each line</option>
                <option value="order">once for the order</option>
              </select>
            </Labelled>
            <Labelled label="Name of the tax">
              <input className="field w-full" {...text(part, "tax_name")} />
            </Labelled>
            <Labelled label="Rate of the tax, thousandths" help="Where the channel tells none.">
              <input className="field w-28" {...number(s.tax_permille, (n) => put({ tax_permille: n }))} />
            </Labelled>
            <Labelled label="Ship as" help="The sender on labels, of those in Settings, Senders and carriers.">
              <select className="field w-full" value={s.sender ?? ""} onChange={(e) => put({ sender: e.target.value || undefined })}>
                <option value="">the place that it leaves from</option>
                {senders.data
                  ?.filter((x) => !x.archived_at || x.code === s.sender)
                  .map((x) => (
                    <option key={x.code} value={x.code}>
                      {x.name}
                    </option>
                  ))}
              </select>
            </Labelled>
            <Payments {...part} />
            <Services {...part} />
          </>
        )}
      </div>
    </fieldset>
  );
}

/** A table of words, one a line: theirs = ours. */
function Words({
  label,
  help,
  placeholder,
  words,
  onChange,
}: {
  label: string;
  help: string;
  placeholder: string;
  words: Record<string, string> | undefined;
  onChange: (words: Record<string, string>) => void;
}) {
  const [typed, type] = useState(() =>
    Object.entries(words ?? {})
      .map(([theirs, ours]) => `${theirs} = ${ours}`)
      .join("\n"),
  );
  const read = (lines: string) =>
    Object.fromEntries(
      lines
        .split("\n")
        .map((l) => l.split("=").map((x) => x.trim()))
        .filter(([theirs, ours]) => theirs && ours),
    ) as Record<string, string>;
  const unread = typed.split("\n").filter((l) => l.trim() && !/^[^=]*[^=\s][^=]*=[^=]*[^=\s][^=]*$/.test(l));
  return (
    <Labelled label={label} help={unread.length > 0 ? `Not understood: ${unread[0]}` : help}>
      <textarea
        className="field code w-full"
        rows={3}
        placeholder={placeholder}
        value={typed}
        onChange={(e) => {
          type(e.target.value);
          onChange(read(e.target.value));
        }}
      />
    </Labelled>
  );
}

/** The channel's words for ways to pay, each with the account that receives it. */
function Payments({ s, put }: Part) {
  return (
    <Words
      label="Ways to pay"
      help="One a line: the channel's word = the account. Rules and the order name the account."
      placeholder="card = Card clearing"
      words={s.payments}
      onChange={(payments) => put({ payments })}
    />
  );
}

/** What buyers were promised, each with the service that is bought for it without a person. */
function Services({ s, put }: Part) {
  return (
    <Words
      label="Deliveries that buyers were promised"
      help="One a line: the channel's word = a carrier's service, cheapest, cheapest in 2 days, fastest or ask. Others: Settings, Services."
      placeholder="standard = cheapest"
      words={s.services}
      onChange={(services) => put({ services })}
    />
  );
}

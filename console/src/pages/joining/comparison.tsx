import { Fragment } from "react";
import type { Schema } from "../../api/client";
import { count } from "../../parts/format";
import { Lamp } from "../../parts/lamp";

type Comparison = Schema<"RelayComparison">;

/** Whether any record would come out otherwise, or be refused. */
export const differs = (c: Comparison) => c.feeds.some((f) => f.otherwise > 0 || f.refused > 0);

/** What a changed definition would do otherwise, with the records that are kept. */
export function ComparisonView({ comparison: c }: { comparison: Comparison }) {
  const looked = c.feeds.reduce((n, f) => n + f.looked, 0);
  return (
    <>
      <p className="mb-2">
        {c.version === 0 && c.feeds.length === 0 ? (
          <Lamp state="idle">no connection works by it yet, so there is nothing to compare it on</Lamp>
        ) : looked === 0 ? (
          <Lamp state="idle">no record is kept that it could be compared on</Lamp>
        ) : differs(c) ? (
          <Lamp state="caution">some of {count(looked)} kept records would come out otherwise</Lamp>
        ) : (
          <Lamp state="go">all {count(looked)} kept records come out the same</Lamp>
        )}
      </p>
      {c.feeds.length > 0 && (
        <table className="ledger mb-3">
          <thead>
            <tr>
              <th>Connection</th>
              <th>Feed</th>
              <th className="r">Looked at</th>
              <th className="r">Otherwise</th>
              <th className="r">Refused</th>
              <th className="r">Mended</th>
            </tr>
          </thead>
          <tbody>
            {c.feeds.map((f) => (
              <Fragment key={f.connection + f.feed}>
                <tr>
                  <td>{f.connection}</td>
                  <td>{f.feed}</td>
                  <td className="r">
                    {count(f.looked)} <span className="text-[12px] text-quiet">of {count(f.kept)}</span>
                  </td>
                  <td className="r">{f.otherwise ? <strong>{count(f.otherwise)}</strong> : "0"}</td>
                  <td className="r">{f.refused ? <strong className="text-stop">{count(f.refused)}</strong> : "0"}</td>
                  <td className="r">{count(f.mended)}</td>
                </tr>
                {(f.not_looked || Object.keys(f.fields).length > 0) && (
                  <tr>
                    <td colSpan={6} className="text-[12px] text-quiet">
                      {f.not_looked ??
                        Object.entries(f.fields)
                          .map(([path, n]) => `${path} (${n})`)
                          .join(", ")}
                    </td>
                  </tr>
                )}
              </Fragment>
            ))}
          </tbody>
        </table>
      )}
      {c.feeds
        .filter((f) => f.examples.length > 0)
        .map((f) => (
          <details key={f.connection + f.feed} className="mb-2" open={differs(c)}>
            <summary>
              {f.connection}, {f.feed}: {f.examples.length} of {f.otherwise + f.refused + f.mended} records
            </summary>
            <table className="ledger">
              <thead>
                <tr>
                  <th>Record</th>
                  <th>Field</th>
                  <th>Was</th>
                  <th>Now</th>
                </tr>
              </thead>
              <tbody>
                {f.examples.map((e) => (
                  <Fragment key={e.record}>
                    {(e.was || e.now) && (
                      <tr>
                        <td className="code">{e.record}</td>
                        <td />
                        <td className={e.was ? "text-stop" : ""}>{e.was ?? "taken"}</td>
                        <td className={e.now ? "text-stop" : ""}>{e.now ?? "taken"}</td>
                      </tr>
                    )}
                    {e.fields.map((d) => (
                      <tr key={d.path}>
                        <td className="code">{e.record}</td>
                        <td className="code">{d.path}</td>
                        <td className="break-all text-quiet">{d.was || "–"}</td>
                        <td className="break-all">{d.now || "–"}</td>
                      </tr>
                    ))}
                  </Fragment>
                ))}
              </tbody>
            </table>
          </details>
        ))}
      <Changed lines={c.lines} />
    </>
  );
}

/** Lines that were changed: what was taken away and what was added is marked by its sign, not by colour alone. */
export function Changed({ lines }: { lines: string }) {
  if (!lines) return null;
  return (
    <pre className="code max-h-[36vh] overflow-auto border-y border-rule py-2 leading-[18px]" aria-label="Changed lines" tabIndex={0}>
      {lines
        .trimEnd()
        .split("\n")
        .slice(2)
        .map((line, i) => (
          <div key={i} className={line.startsWith("+") ? "bg-go/12" : line.startsWith("-") ? "bg-stop/12" : "text-quiet"}>
            {line || " "}
          </div>
        ))}
    </pre>
  );
}

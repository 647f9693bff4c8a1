import type { Schema } from "../../api/client";
import { Lamp } from "../../parts/lamp";

type Tried = Schema<"RelayTried">;

/** Lays a document out, so that it can be read. */
export function pretty(text: string): string {
  try {
    return JSON.stringify(JSON.parse(text), null, 2);
  } catch {
    return text.startsWith("<") ? text.replaceAll("><", ">\n<") : text;
  }
}

/** What became of a sample, or what would be sent of a message. */
export function Outcome({ tried }: { tried: Tried }) {
  const t = tried.trial;
  const x = tried.exchange;
  return (
    <>
      {tried.error && (
        <p className="mb-2 border-l-4 border-stop bg-sheet px-3 py-2" role="alert">
          {tried.error}
        </p>
      )}
      {t && (
        <>
          <p className="mb-2">
            <Lamp state={t.mistake ? "stop" : "go"}>
              {t.mistake ? "it would not be taken in" : `record ${t.id}, version ${t.version}: it would be taken in`}
            </Lamp>
            {t.mistake && <span className="block text-stop">{t.mistake}</span>}
          </p>
          {t.missing.length > 0 && (
            <p className="mb-1">
              <span className="text-stop">Needed and missing: </span>
              <span className="code">{t.missing.join(", ")}</span>
            </p>
          )}
          {t.unused.length > 0 && (
            <p className="mb-2">
              <span className="text-quiet">Nothing looks at: </span>
              <span className="code">{t.unused.join(", ")}</span>
            </p>
          )}
          <table className="ledger">
            <thead>
              <tr>
                <th>Our field</th>
                <th>Takes</th>
                <th>From the sample</th>
              </tr>
            </thead>
            <tbody>
              {t.fields.map((f) => (
                <tr key={f.path} title={f.about} className={f.value ? "" : "text-quiet"}>
                  <td className="code">
                    {f.path}
                    {f.needed && <span className={`text-[11px] ${f.value ? "text-quiet" : "text-stop"}`}> needed</span>}
                  </td>
                  <td className="text-[12px] text-quiet">{f.kind}</td>
                  <td className="break-all">{f.value}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </>
      )}
      {x && (
        <>
          <p className="code mb-1 break-all">
            {x.method} {x.url}
          </p>
          <table className="ledger mb-2">
            <tbody>
              {x.headers?.map(([name, value]) => (
                <tr key={name}>
                  <td className="code text-quiet">{name}</td>
                  <td className="code break-all">{value}</td>
                </tr>
              ))}
            </tbody>
          </table>
          {x.body && (
            <pre className="code max-h-72 overflow-auto whitespace-pre-wrap break-all border-y border-rule py-2 leading-[18px]">
              {pretty(x.body)}
            </pre>
          )}
          {x.status ? (
            <>
              <p className="mt-3 mb-1">
                <Lamp state={x.status < 300 ? "go" : "stop"}>{`answered ${x.status} after ${Math.round(x.took / 1e6)} ms`}</Lamp>
              </p>
              <pre className="code max-h-72 overflow-auto whitespace-pre-wrap break-all border-y border-rule py-2 leading-[18px]">
                {pretty(x.answer ?? "")}
              </pre>
            </>
          ) : (
            <p className="mt-2 text-quiet">Nothing was sent; this is what would be.</p>
          )}
        </>
      )}
    </>
  );
}

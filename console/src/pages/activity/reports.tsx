import { useQuery } from "@tanstack/react-query";
import { api, take, type Schema } from "../../api/client";
import { useWords } from "../../parts/address";
import { Head, Loading, Trouble } from "../../parts/controls";
import { count, dayText, decimal } from "../../parts/format";
import { activityStops, Rail } from "../../parts/rail";

type Report = Schema<"Report">;
type Row = Schema<"ReportRow">;
type Code = "billed" | "weights" | "transit" | "transit-weeks" | "days" | "source" | "shipping" | "speed" | "exceptions" | "stockouts";

/** What people ask for, as pictures, as figures and as CSV. */
export default function Reports() {
  const [params, set] = useWords();
  const from = params.get("from") ?? "";
  const to = params.get("to") ?? "";
  return (
    <>
      <Head title="Reports" sub={from || to ? "Of the days chosen" : "Of the last thirty days"}>
        <label className="flex items-center gap-1 text-quiet">
          from <input type="date" className="field" aria-label="First day" value={from} onChange={(e) => set("from", e.target.value)} />
        </label>
        <label className="flex items-center gap-1 text-quiet">
          to <input type="date" className="field" aria-label="Last day" value={to} onChange={(e) => set("to", e.target.value)} />
        </label>
      </Head>
      <Rail label="Activity" stops={activityStops} />
      <div className="grid grid-cols-2 gap-x-12 gap-y-8 max-lg:grid-cols-1">
        <One code="days" title="Orders by day" from={from} to={to} wide draw={(r) => <Days r={r} />} />
        <One
          code="source"
          title="Orders by channel, and how they came in"
          from={from}
          to={to}
          draw={(r) => (
            <Bars
              rows={r.rows}
              name={(x) => x.name}
              second={(x) => x.second}
              size={(x) => x.a}
              figure={(x) => count(x.a)}
              more={(x) =>
                `${decimal(x.b, x.currency ?? "EUR")} ${x.currency ?? ""}${x.cancelled ? ` · ${count(x.cancelled)} cancelled` : ""}`
              }
              moreTitle="value, without cancelled orders"
            />
          )}
        />
        <One
          code="shipping"
          title="Shipping: charged to buyers, paid to carriers"
          from={from}
          to={to}
          draw={(r) => <Against rows={r.rows} />}
        />
        <One
          code="speed"
          title="From sale to hand-over"
          from={from}
          to={to}
          draw={(r) => (
            <Bars
              rows={r.rows}
              name={(x) => x.name.slice(3)}
              size={(x) => x.a}
              figure={(x) => count(x.a)}
              more={(x) => `${x.c.toFixed(1)} h`}
              moreTitle="on average"
            />
          )}
        />
        <One
          code="billed"
          title="Carriers: asked against billed"
          from={from}
          to={to}
          draw={(r) => <Against rows={r.rows} first="asked" second="billed" />}
        />
        <One
          code="weights"
          title="Weight: by sum, by scale, by bill"
          from={from}
          to={to}
          draw={(r) => (
            <Bars
              rows={r.rows}
              name={(x) => x.name}
              size={(x) => x.c}
              figure={(x) => kilos(x.c)}
              more={(x) => `${kilos(x.a)} by sum · ${kilos(x.b)} by scale`}
              moreTitle="of the parcels that were billed by weight"
            />
          )}
        />
        <One
          code="transit"
          title="On the way: by service and region"
          from={from}
          to={to}
          draw={(r) => <InTime rows={r.rows} name={(x) => x.name} second={(x) => x.second ?? ""} />}
        />
        <One
          code="transit-weeks"
          title="On the way: by week"
          from={from}
          to={to}
          draw={(r) => <InTime rows={r.rows} name={(x) => `week of ${dayText(x.name)}`} second={(x) => x.second ?? ""} />}
        />
        <One
          code="exceptions"
          title="Exceptions by cause"
          from={from}
          to={to}
          draw={(r) => (
            <Bars
              rows={r.rows}
              name={(x) => x.name}
              size={(x) => x.a}
              figure={(x) => count(x.a)}
              more={(x) => (x.b ? `${count(x.b)} open` : x.c ? `${x.c.toFixed(1)} h to mend` : "")}
              moreTitle=""
            />
          )}
        />
        <One
          code="stockouts"
          title="What ran out"
          from={from}
          to={to}
          draw={(r) => (
            <>
              <Bars
                rows={r.rows.slice(0, 12)}
                name={(x) => x.name}
                second={(x) => x.second}
                size={(x) => x.a + x.b}
                figure={(x) => `${count(x.a)} ×`}
                more={(x) => (x.b ? `${count(x.b)} waited` : "")}
                moreTitle=""
              />
              {r.rows.length > 12 && <p className="mt-1 text-quiet">and {count(r.rows.length - 12)} more that ran out less often</p>}
            </>
          )}
        />
      </div>
    </>
  );
}

function One({
  code,
  title,
  from,
  to,
  wide,
  draw,
}: {
  code: Code;
  title: string;
  from: string;
  to: string;
  wide?: boolean;
  draw: (r: Report) => React.ReactNode;
}) {
  const q = useQuery({
    queryKey: ["report", code, from, to],
    queryFn: () =>
      take(api.GET("/api/v1/reports/{code}", { params: { path: { code }, query: { from: from || undefined, to: to || undefined } } })),
  });
  return (
    <section aria-label={title} className={wide ? "col-span-2 max-lg:col-span-1" : ""}>
      <div className="mb-2 flex items-baseline justify-between border-b border-rule pb-1">
        <h2>{title}</h2>
        <a
          className="text-[12px] underline decoration-rule underline-offset-4 hover:decoration-ink"
          href={`/api/v1/reports/${code}.csv?${new URLSearchParams({ ...(from && { from }), ...(to && { to }) })}`}
        >
          CSV
        </a>
      </div>
      <Trouble error={q.error} />
      {q.isPending && <Loading />}
      {q.data && (q.data.rows.length === 0 ? <p className="py-4 text-quiet">Nothing of this in these days.</p> : draw(q.data))}
    </section>
  );
}

const kilos = (g: number) => `${(g / 1000).toFixed(1)} kg`;

/** Parcels that arrived, and how many of them after the promised day. */
function InTime({ rows, name, second }: { rows: Row[]; name: (x: Row) => string; second: (x: Row) => string }) {
  return (
    <Bars
      rows={rows}
      name={name}
      second={second}
      size={(x) => x.a}
      figure={(x) => count(x.a)}
      more={(x) => `${x.b ? `${count(x.b)} late` : "none late"} · ${x.c.toFixed(0)} h`}
      moreTitle="late, and hours on the way"
    />
  );
}

/** Rows with a bar as long as their figure. */
function Bars({
  rows,
  name,
  second,
  size,
  figure,
  more,
  moreTitle,
}: {
  rows: Row[];
  name: (r: Row) => string;
  second?: (r: Row) => string | undefined;
  size: (r: Row) => number;
  figure: (r: Row) => string;
  more: (r: Row) => string;
  moreTitle: string;
}) {
  const most = Math.max(...rows.map(size), 1);
  return (
    <table className="w-full">
      <tbody>
        {rows.map((r, i) => (
          <tr key={i}>
            <td className="py-0.5 pr-3 whitespace-nowrap">
              {name(r)}
              {second?.(r) && <span className="ml-2 text-[12px] text-quiet">{second(r)}</span>}
            </td>
            <td className="w-2/5">
              <div className="h-[10px] bg-ink" style={{ width: `${Math.max((100 * size(r)) / most, 1)}%` }} />
            </td>
            <td className="fig pl-3 text-right font-medium">{figure(r)}</td>
            <td className="fig pl-4 text-right text-[12px] whitespace-nowrap text-quiet" title={moreTitle}>
              {more(r)}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** What buyers paid above what carriers were paid, at one scale. */
function Against({ rows, first = "charged", second = "paid" }: { rows: Row[]; first?: string; second?: string }) {
  const top = new Map<string, number>(); // a scale for each currency
  for (const r of rows) top.set(r.currency ?? "", Math.max(top.get(r.currency ?? "") ?? 1, r.a, r.b));
  return (
    <table className="w-full">
      <tbody>
        {rows.map((r, i) => (
          <tr key={i} className="align-middle">
            <td className="py-1 pr-3">
              {r.name}
              <span className="ml-2 text-[12px] text-quiet">
                {count(r.c)} {r.c === 1 ? "parcel" : "parcels"}
              </span>
            </td>
            <td className="w-2/5">
              <div className="h-[8px] bg-ink" style={{ width: `${(100 * r.a) / (top.get(r.currency ?? "") ?? 1)}%` }} />
              <div className="mt-[2px] h-[8px] border border-ink" style={{ width: `${(100 * r.b) / (top.get(r.currency ?? "") ?? 1)}%` }} />
            </td>
            <td className="fig pl-3 text-right whitespace-nowrap">
              <div>
                {decimal(r.a, r.currency ?? "EUR")} <span className="text-[12px] text-quiet">{r.currency}</span>
              </div>
              <div className="text-quiet">
                {decimal(r.b, r.currency ?? "EUR")} <span className="text-[12px]">{r.currency}</span>
              </div>
            </td>
            <td className={`fig pl-4 text-right ${r.a < r.b ? "text-stop" : ""}`}>{decimal(r.a - r.b, r.currency ?? "EUR")}</td>
          </tr>
        ))}
        <tr>
          <td colSpan={4} className="pt-1 text-[12px] text-quiet">
            filled: {first} · outlined: {second} · right: what is left
          </td>
        </tr>
      </tbody>
    </table>
  );
}

const shades = ["var(--ink)", "var(--busy)", "var(--go)", "var(--caution)", "var(--quiet)", "var(--stop)"];

/** A column a day, stacked by channel; a table says the same to those who do not see it. */
function Days({ r }: { r: Report }) {
  const channels = [...new Set(r.rows.map((x) => x.second ?? ""))].sort();
  const days: string[] = [];
  for (let d = new Date(r.from); d < new Date(r.to) && days.length < 400; d = new Date(d.getTime() + 86_400_000))
    days.push(d.toISOString().slice(0, 10));
  for (const x of r.rows) if (!days.includes(x.name)) days.push(x.name);
  days.sort();
  const at = new Map<string, number>();
  for (const x of r.rows) {
    const key = `${x.name}\u001f${x.second}`; // orders of all currencies
    at.set(key, (at.get(key) ?? 0) + x.a);
  }
  const sums = days.map((d) => channels.reduce((n, c) => n + (at.get(`${d}\u001f${c}`) ?? 0), 0));
  const most = Math.max(...sums, 1);
  const w = 1000 / days.length;
  const tall = 150;
  return (
    <>
      <svg viewBox={`0 0 1000 ${tall + 22}`} className="w-full" role="img" aria-label={`Orders a day, at most ${most}`}>
        <line x1="0" x2="1000" y1={tall} y2={tall} stroke="var(--rule)" />
        <text x="0" y="10" fontSize="11" fill="var(--quiet)">
          {most}
        </text>
        {days.map((d, i) => {
          let y = tall;
          return (
            <g key={d}>
              {channels.map((c, k) => {
                const n = at.get(`${d}\u001f${c}`) ?? 0;
                const h = (n * (tall - 16)) / most;
                y -= h;
                return n > 0 ? (
                  <rect key={c} x={i * w + w * 0.12} y={y} width={w * 0.76} height={h} fill={shades[k % shades.length]}>
                    <title>{`${d}, ${c}: ${n}`}</title>
                  </rect>
                ) : null;
              })}
              {(i % Math.ceil(days.length / 10) === 0 || i === days.length - 1) && (
                <text x={Math.min(i * w + w / 2, 985)} y={tall + 16} fontSize="11" textAnchor="middle" fill="var(--quiet)">
                  {d.slice(5)}
                </text>
              )}
            </g>
          );
        })}
      </svg>
      <ul className="flex flex-wrap gap-x-5 text-[12px]">
        {channels.map((c, k) => (
          <li key={c} className="flex items-center gap-1.5">
            <span aria-hidden="true" className="inline-block h-[10px] w-[10px]" style={{ background: shades[k % shades.length] }} />
            {c} <span className="fig text-quiet">{count(r.rows.filter((x) => x.second === c).reduce((n, x) => n + x.a, 0))}</span>
          </li>
        ))}
      </ul>
    </>
  );
}

import { clsx } from "clsx";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, take, type Schema } from "../../api/client";
import { Button, Empty, Head, Loading, Trouble } from "../../parts/controls";
import { Age, count, dayText, Money } from "../../parts/format";
import { FirstDay } from "./firstday";
import { Lamp, LampShape, lampOf, Stage, type LampState } from "../../parts/lamp";

type Connection = Schema<"Connection">;

const row = 72;

/** How a place stands: what is to leave there, against what can leave there on a day. */
function placeLamp(p: Schema<"PlaceCount">): [LampState, string] {
  const load = p.to_pick + p.to_ship;
  if (load === 0) return ["idle", "nothing to do"];
  if (p.per_day && load > p.per_day) return ["caution", `more than a day's work: ${Math.ceil((load / p.per_day) * 10) / 10} days`];
  return ["busy", "has work"];
}

export function Board() {
  const q = useQuery({ queryKey: ["board"], queryFn: () => take(api.GET("/api/v1/board")), refetchInterval: 30_000 });
  if (q.isPending) return <Loading />;
  if (q.error) return <Trouble error={q.error} />;
  const b = q.data;
  const left = b.connections.filter((c) => c.side === "channel");
  const sending = new Set(b.places.map((p) => p.partner));
  const carriers = b.connections.filter((c) => c.side !== "channel" && !sending.has(c.code));
  const right = [
    ...b.places.map((p) => ({ key: p.code, lamp: placeLamp(p)[0] })),
    ...carriers.map((c) => ({ key: c.code, lamp: c.lamp.state as LampState })),
  ];
  const open = b.stages.filter((s) => !["shipped", "delivered", "cancelled"].includes(s.stage));
  const done = b.stages.filter((s) => ["shipped", "delivered", "cancelled"].includes(s.stage));
  const tall = Math.max(left.length, right.length, 4) * row + 8;
  const moving = open.reduce((n, s) => n + s.count, 0);
  const worst = b.connections.find((c) => c.lamp.state === "stop") ?? b.connections.find((c) => c.lamp.state === "caution");
  return (
    <>
      <Head
        tab="Board"
        title={b.company}
        sub={
          <span className="flex flex-wrap gap-x-5">
            {worst ? (
              <Lamp state={worst.lamp.state as LampState}>
                {worst.name}: {worst.lamp.text}
              </Lamp>
            ) : b.connections.length === 0 ? (
              <Lamp state="idle">Nothing is joined yet</Lamp>
            ) : (
              <Lamp state="go">Everything is moving</Lamp>
            )}
            {b.exceptions.length > 0 && (
              <Lamp state="caution">
                {b.exceptions.length} {b.exceptions.length === 1 ? "thing needs" : "things need"} a person
              </Lamp>
            )}
          </span>
        }
      />
      <FirstDay />
      <section
        aria-label="Traffic"
        className={clsx(
          "grid grid-cols-[minmax(0,1fr)_72px_minmax(270px,330px)_72px_minmax(0,1fr)] max-md:grid-cols-1",
          "border-y border-rule bg-sheet",
        )}
        style={{ minHeight: tall }}
      >
        <ul className="pl-4">
          {left.length === 0 && <li className="py-4 text-quiet">Channels stand here once they are joined.</li>}
          {left.map((c) => (
            <li key={c.code} style={{ height: row }} className="flex items-center gap-4">
              <div className="flex min-w-0 flex-col">
                <Link to={`/connections/${c.code}`} className="truncate font-medium hover:underline">
                  {c.name}
                </Link>
                <span className="text-[12px]">
                  <Lamp state={c.lamp.state as LampState}>{short(c)}</Lamp>
                </span>
                <span className="text-[12px] whitespace-nowrap text-quiet">
                  <span className="code">{count(c.orders_today)}</span> orders today · last good run <Age at={c.last_ok} />
                </span>
              </div>
              <svg aria-hidden="true" className="h-[2px] min-w-3 flex-1 max-md:hidden">
                <line x1="0" x2="100%" y1="1" y2="1" {...track(c.lamp.state as LampState)} />
              </svg>
            </li>
          ))}
        </ul>
        <Lines tall={tall} ends={left.map((c) => c.lamp.state as LampState)} into />
        <div className="relative border-x border-rule px-5 py-3 max-md:border-x-0">
          <div className="mb-1 flex items-baseline justify-between">
            <span className="text-quiet">On their way</span>
            <span className="fig text-[30px] leading-9 font-medium" data-testid="moving">
              {count(moving)}
            </span>
          </div>
          <ol className="relative">
            <li aria-hidden="true" className="absolute top-3 bottom-3 left-[5px] w-px bg-rule" />
            {open.map((s) => (
              <li key={s.stage}>
                <Link
                  to={`/orders?stage=${encodeURIComponent(s.stage)}`}
                  className={`group flex items-center gap-3 py-[3px] ${s.count ? "" : "text-quiet"}`}
                >
                  <span className="relative bg-sheet py-0.5">
                    <LampShape state={s.count === 0 ? "idle" : lampOf(s.stage)} />
                  </span>
                  <span className="group-hover:underline">{s.stage}</span>
                  <span className="ml-auto text-[12px] text-quiet">{s.count > 0 && s.oldest ? <Age at={s.oldest} /> : ""}</span>
                  <span className="fig w-12 font-medium">{count(s.count)}</span>
                </Link>
              </li>
            ))}
          </ol>
          <p className="mt-2 border-t border-rule pt-2 text-[12px] text-quiet">
            Today:{" "}
            {done.map((s, i) => (
              <span key={s.stage}>
                {i > 0 && ", "}
                <Link className="hover:underline" to={`/orders?stage=${s.stage}`}>
                  <span className="code text-ink">{count(s.count)}</span> {s.stage}
                </Link>
              </span>
            ))}
          </p>
        </div>
        <Lines tall={tall} ends={right.map((r) => r.lamp)} />
        <ul className="pr-4 max-md:pl-4">
          {right.length === 0 && <li className="py-4 text-quiet">Places and carriers stand here.</li>}
          {b.places.map((p) => (
            <li key={p.code} style={{ height: row }} className="flex flex-col justify-center">
              <Link to={p.partner ? `/requests?partner=${p.partner}` : `/stock?location=${p.code}`} className="font-medium hover:underline">
                {p.name}
              </Link>
              <span className="text-[12px]">
                <Lamp state={placeLamp(p)[0]}>{placeLamp(p)[1]}</Lamp>
              </span>
              <span className="text-[12px] text-quiet">
                <span className="code">{count(p.to_pick)}</span> {p.partner ? "for them to send" : "to pick"}
                {!p.partner && (
                  <>
                    {" · "}
                    <span className="code">{count(p.to_ship)}</span> to ship
                  </>
                )}
                {!!p.per_day && (
                  <>
                    {" · "}
                    <span className="code">{count(p.per_day)}</span> a day
                  </>
                )}
                {p.today && ` · ${p.today}`}
              </span>
            </li>
          ))}
          {carriers.map((c) => (
            <li key={c.code} style={{ height: row }} className="flex flex-col justify-center">
              <Link to={`/connections/${c.code}`} className="font-medium hover:underline">
                {c.name}
              </Link>
              <span className="text-[12px]">
                <Lamp state={c.lamp.state as LampState}>{short(c)}</Lamp>
              </span>
              <span className="text-[12px] text-quiet">
                last good run <Age at={c.last_ok} />
              </span>
            </li>
          ))}
        </ul>
      </section>
      <div className="mt-6 grid grid-cols-2 gap-8 max-lg:grid-cols-1">
        <section>
          <h2 className="mb-2">
            <Link to="/exceptions" className="hover:underline">
              Needs a person
            </Link>
          </h2>
          {b.exceptions.length === 0 ? (
            <Empty>Nothing. What cannot go on by itself will stand here, with what would free it.</Empty>
          ) : (
            <Exceptions list={b.exceptions} />
          )}
        </section>
        <section>
          <h2 className="mb-2">Waiting longest to be sent</h2>
          {b.late.length === 0 ? (
            <Empty>Nothing waits. Orders that are ready stand here, the oldest first.</Empty>
          ) : (
            <table className="ledger">
              <tbody>
                {b.late.map((o) => (
                  <tr key={o.number}>
                    <td>
                      <Link to={`/orders/${o.number}`} className="code hover:underline">
                        {o.number}
                      </Link>
                    </td>
                    <td className="max-w-40 truncate">{o.buyer}</td>
                    <td>
                      <Stage stage={o.stage} />
                    </td>
                    <td className="r">
                      <Money minor={o.total} currency={o.currency} />
                    </td>
                    <td className="r text-quiet" title={o.placed_at ? dayText(o.placed_at) : ""}>
                      <Age at={o.placed_at} />
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
        </section>
      </div>
    </>
  );
}

const short = (c: Connection) => (c.lamp.text.length > 46 ? c.lamp.text.slice(0, 45) + "…" : c.lamp.text);

const stroke: Record<LampState, string> = {
  go: "var(--go)",
  idle: "var(--rule)",
  caution: "var(--caution)",
  stop: "var(--stop)",
  busy: "var(--busy)",
};

/** How a line is drawn: whole where it runs, broken where it does not. */
const track = (state: LampState) => ({
  stroke: stroke[state],
  strokeWidth: 2,
  strokeDasharray: state === "stop" ? "2 5" : state === "idle" ? "1 4" : undefined,
});

/** Lines between the nodes at the side and the middle: one a connection, in the colour of its lamp. */
function Lines({ tall, ends, into }: { tall: number; ends: LampState[]; into?: boolean }) {
  const mid = tall / 2;
  return (
    <svg viewBox={`0 0 72 ${tall}`} width="72" height={tall} aria-hidden="true" className="max-md:hidden">
      {ends.map((state, i) => {
        const y = i * row + row / 2;
        const d = into
          ? `M0 ${y}H18L48 ${mid + (i - (ends.length - 1) / 2) * 9}H72`
          : `M0 ${mid + (i - (ends.length - 1) / 2) * 9}H24L54 ${y}H72`;
        return <path key={i} d={d} fill="none" {...track(state)} />;
      })}
    </svg>
  );
}

function Exceptions({ list }: { list: Schema<"Exception">[] }) {
  const client = useQueryClient();
  const done = () => void client.invalidateQueries({ queryKey: ["board"] });
  const again = useMutation({
    mutationFn: (id: number) => take(api.POST("/api/v1/outbox/{id}/send-again", { params: { path: { id } } })),
    onSuccess: done,
  });
  const takeIn = useMutation({
    mutationFn: (code: string) => take(api.POST("/api/v1/connections/{code}/try-again", { params: { path: { code } } })),
    onSuccess: done,
  });
  return (
    <>
      <Trouble error={again.error ?? takeIn.error} />
      <table className="ledger">
        <tbody>
          {list.map((e) => (
            <tr key={e.id}>
              <td className="w-36">
                <Lamp state="caution">{e.cause}</Lamp>
              </td>
              <td>
                <div>{e.text}</div>
                <div className="text-[12px] text-quiet">Expected: {e.expected}</div>
              </td>
              <td className="r">
                {e.orders > 1 ? (
                  <Link
                    to={`/exceptions?cause=${encodeURIComponent(e.cause)}`}
                    className="whitespace-nowrap underline decoration-rule underline-offset-4 hover:decoration-ink"
                  >
                    <span className="fig">{count(e.orders)}</span> orders
                  </Link>
                ) : (
                  e.order_number && (
                    <Link
                      to={`/orders/${e.order_number}`}
                      className="code underline decoration-rule underline-offset-4 hover:decoration-ink"
                    >
                      {e.order_number}
                    </Link>
                  )
                )}
                {e.outbox_id ? (
                  <Button className="ml-2" onClick={() => again.mutate(e.outbox_id as number)} disabled={again.isPending}>
                    Send again
                  </Button>
                ) : null}
                {e.inbox_id ? (
                  <Button onClick={() => takeIn.mutate(e.connection ?? "")} disabled={takeIn.isPending}>
                    Take in again
                  </Button>
                ) : null}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

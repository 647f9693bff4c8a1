import { causesQuery, may, meQuery } from "../../api/queries";
import { clsx } from "clsx";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { Link } from "react-router";
import { api, take, type Schema } from "../../api/client";
import { useWords } from "../../parts/address";
import { Button, Cut, Empty, Head, Loading, Trouble } from "../../parts/controls";
import { Age, count } from "../../parts/format";
import { Lamp } from "../../parts/lamp";
import { useAction } from "../../shared/orders/action";
import { SayItem } from "../../shared/partners/sayitem";

type Exception = Schema<"Exception">;

const group = (e: Exception) => ({ cause: e.cause, connection: e.connection ?? "", subject: e.subject });
const maxShown = 200;
const keyOf = (e: Exception) => `${e.cause}\u001f${e.connection}\u001f${e.subject}`;

/** What cannot go on by itself: by cause, the same of it together, with what frees it in place. */
export default function Exceptions() {
  const [params, set] = useWords();
  const cause = params.get("cause") ?? "";
  const asleep = params.get("show") === "asleep";
  const mine = params.get("show") === "mine";
  const me = useQuery(meQuery);
  const causes = useQuery(causesQuery);
  const q = useQuery({
    queryKey: ["exceptions", cause, asleep, mine],
    queryFn: () =>
      take(
        api.GET("/api/v1/exceptions", {
          params: {
            query: {
              limit: maxShown,
              cause: cause || undefined,
              asleep: asleep || undefined,
              assignee: mine ? me.data?.email || me.data?.name : undefined,
            },
          },
        }),
      ),
    enabled: me.isSuccess,
  });
  const [open, setOpen] = useState<string | null>(null);
  const [said, setSaid] = useState(""); // stays when what it was about is gone
  const list = q.data ?? [];
  const chosen = list.find((e) => keyOf(e) === open) ?? list[0];
  const total = causes.data?.reduce((n, c) => n + c.n, 0) ?? 0;
  return (
    <>
      <Head
        title="Exceptions"
        sub={total > 0 ? `${count(total)} open; mending one cause frees all that wait for it` : "What cannot go on by itself"}
      >
        {(["", "mine", "asleep"] as const).map((v) => (
          <button
            key={v}
            type="button"
            aria-pressed={(params.get("show") ?? "") === v}
            onClick={() => set("show", v)}
            className={clsx(
              "border-b-2 px-2 py-1",
              (params.get("show") ?? "") === v ? "border-ink" : "border-transparent text-quiet hover:text-ink",
            )}
          >
            {{ "": "Everybody's", mine: "Mine", asleep: "Asleep" }[v]}
          </button>
        ))}
      </Head>
      <Trouble error={q.error} />
      {said && (
        <p role="status" className="mb-3 border-l-4 border-go bg-sheet px-3 py-1.5">
          <Lamp state="go">{said}</Lamp>
        </p>
      )}
      <div className="grid grid-cols-[190px_minmax(0,1fr)_minmax(320px,400px)] gap-6 max-lg:grid-cols-1">
        <nav aria-label="Causes">
          <ul>
            <li>
              <CauseLink name="All causes" n={total} on={!cause} onClick={() => set("cause", "")} />
            </li>
            {causes.data?.map((c) => (
              <li key={c.name}>
                <CauseLink name={c.name} n={c.n} on={cause === c.name} onClick={() => set("cause", c.name)} />
              </li>
            ))}
          </ul>
        </nav>
        <section aria-label="What needs a person" className="min-w-0">
          {q.isPending && <Loading />}
          {q.isSuccess && list.length === 0 && (
            <Empty>{asleep ? "Nothing sleeps." : "Nothing. What cannot go on by itself will stand here, with what would free it."}</Empty>
          )}
          {list.length > 0 && (
            <table className="ledger">
              <tbody>
                {list.map((e) => (
                  <tr
                    key={keyOf(e)}
                    data-open=""
                    tabIndex={0}
                    aria-selected={chosen === e}
                    className={chosen === e ? "bg-wash" : ""}
                    onClick={() => setOpen(keyOf(e))}
                    onKeyDown={(k) => {
                      const tr = k.currentTarget;
                      if (k.key === "ArrowDown" || k.key === "j") (tr.nextElementSibling as HTMLElement | null)?.focus();
                      else if (k.key === "ArrowUp" || k.key === "k") (tr.previousElementSibling as HTMLElement | null)?.focus();
                      else if (k.key === "Enter") setOpen(keyOf(e));
                      else return;
                      k.preventDefault();
                    }}
                  >
                    <td>
                      <div className="flex flex-wrap items-baseline gap-x-3">
                        <Lamp state="caution">
                          <strong className="font-medium">{e.cause}</strong>
                        </Lamp>
                        {e.subject && <span className="code">{e.subject}</span>}
                        <span className="text-quiet">{e.connection_name}</span>
                      </div>
                      <div className="line-clamp-2">{e.text}</div>
                    </td>
                    <td className="r whitespace-nowrap">
                      {e.orders > 0 && (
                        <div>
                          <span className="fig font-medium">{count(e.orders)}</span>{" "}
                          <span className="text-[12px] text-quiet">{e.orders === 1 ? "order" : "orders"}</span>
                        </div>
                      )}
                      <div className="text-[12px] text-quiet">
                        <Age at={e.oldest_at ?? e.opened_at} />
                      </div>
                      <div className="text-[12px]">{e.assignee}</div>
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
          <Cut shown={list.length} limit={maxShown}>
            The others follow as these are settled; the causes at the side show each by itself.
          </Cut>
        </section>
        {chosen && (
          <Detail
            key={keyOf(chosen)}
            e={chosen}
            me={[me.data?.name, me.data?.email]}
            works={may(me.data, "orders")}
            asleep={asleep}
            onSaid={setSaid}
          />
        )}
      </div>
    </>
  );
}

function CauseLink({ name, n, on, onClick }: { name: string; n: number; on: boolean; onClick: () => void }) {
  return (
    <button
      type="button"
      aria-pressed={on}
      onClick={onClick}
      className={clsx(
        "flex w-full items-baseline justify-between gap-2 border-b border-rule py-1 text-left",
        on ? "font-semibold" : "text-quiet hover:text-ink",
      )}
    >
      <span>{name}</span>
      <span className="fig">{count(n)}</span>
    </button>
  );
}

const sides: Record<string, string> = {
  ours: "It can be mended here.",
  theirs: "The other side can mend it.",
  either: "Either side can mend it.",
};

function Detail({
  e,
  me,
  works,
  asleep,
  onSaid,
}: {
  e: Exception;
  me: (string | undefined)[]; // what the list of people may call whoever looks
  works: boolean;
  asleep: boolean;
  onSaid: (text: string) => void;
}) {
  const client = useQueryClient();
  const of = useQuery({
    queryKey: ["exceptions of", keyOf(e)],
    queryFn: () => take(api.GET("/api/v1/exceptions/of", { params: { query: { ...group(e), limit: 100 } } })),
  });
  const people = useQuery({
    queryKey: ["people here"],
    queryFn: () => take(api.GET("/api/v1/people-here")),
    staleTime: Infinity,
    enabled: works,
  });
  const done = () => {
    for (const key of ["exceptions", "exceptions of", "causes", "board"]) void client.invalidateQueries({ queryKey: [key] });
  };
  const assign = useMutation({
    mutationFn: (assignee: string) => take(api.POST("/api/v1/exceptions/assign", { body: { ...group(e), assignee } })),
    onSuccess: done,
  });
  const snooze = useMutation({
    mutationFn: (hours: number) =>
      take(
        api.POST("/api/v1/exceptions/snooze", {
          body: { ...group(e), until: hours ? new Date(Date.now() + hours * 3600_000).toISOString() : undefined },
        }),
      ),
    onSuccess: done,
  });
  const parcels = [...new Set(of.data?.map((x) => x.parcel).filter((n): n is string => !!n))];
  const orders = [...new Set(of.data?.map((x) => x.order_number).filter((n): n is string => !!n))];
  return (
    <aside aria-label="In detail" className="flex flex-col gap-4 self-start border-l border-rule pl-5 max-lg:border-l-0 max-lg:pl-0">
      <div>
        <h2>{e.cause}</h2>
        <p>{e.text}</p>
        <p className="mt-1 text-quiet">Expected: {e.expected}</p>
        <p className="mt-1 text-[12px] text-quiet">{sides[e.side]}</p>
      </div>
      {works && <Fix e={e} orders={orders} onDone={done} onSaid={onSaid} />}
      {works && (
        <div className="flex flex-wrap items-center gap-2">
          <select aria-label="Looked after by" className="field" value={e.assignee ?? ""} onChange={(x) => assign.mutate(x.target.value)}>
            <option value="">Nobody looks after it</option>
            {e.assignee && !people.data?.includes(e.assignee) && <option value={e.assignee}>{e.assignee}</option>}
            {people.data?.map((p) => (
              <option key={p} value={p}>
                {me.includes(p) ? `${p} (me)` : p}
              </option>
            ))}
          </select>
          {asleep ? (
            <Button onClick={() => snooze.mutate(0)}>Wake it</Button>
          ) : (
            <>
              <Button onClick={() => snooze.mutate(4)}>Sleep 4 h</Button>
              <Button onClick={() => snooze.mutate(24)}>Sleep a day</Button>
            </>
          )}
        </div>
      )}
      <Trouble error={assign.error ?? snooze.error} />
      {parcels.length > 0 && (
        <div>
          <h3 className="mb-1 text-quiet">{parcels.length === 1 ? "The parcel" : `${parcels.length} parcels`}</h3>
          <ul className="flex flex-wrap gap-x-4 gap-y-1">
            {parcels.map((n) => (
              <li key={n}>
                <Link className="code underline decoration-rule underline-offset-4 hover:decoration-ink" to={`/parcels/${n}`}>
                  {n}
                </Link>
              </li>
            ))}
          </ul>
        </div>
      )}
      {orders.length > 0 && (
        <div>
          <h3 className="mb-1 text-quiet">{orders.length === 1 ? "The order that waits" : `${e.orders} orders wait`}</h3>
          <ul className="flex flex-wrap gap-x-4 gap-y-1">
            {orders.slice(0, 40).map((n) => (
              <li key={n}>
                <Link
                  className="code underline decoration-rule underline-offset-4 hover:decoration-ink"
                  to={`/orders/${encodeURIComponent(n)}`}
                >
                  {n}
                </Link>
              </li>
            ))}
          </ul>
          {e.orders > 1 && (
            <Link
              className="mt-1 inline-block text-[12px] underline decoration-rule underline-offset-4"
              to={`/orders?cause=${encodeURIComponent(e.cause)}`}
            >
              All orders with this cause
            </Link>
          )}
        </div>
      )}
    </aside>
  );
}

/** What a person says who has dealt with what a cause asks for. */
const dealtWith: Record<string, string> = {
  "put back": "It is put back",
  "label not needed": "It is voided",
  "number not told": "They know it",
  "bin to count": "It is counted",
  "cancellation not told": "They know it",
  "label not voided": "It is settled",
  "refund not told": "They have it",
  "number still stands": "It is taken off",
  "file not taken": "It is dealt with",
  "not collected": "It is agreed",
  "not printed": "It is dealt with",
  "sent and not wanted": "It is agreed",
};

/** What frees it, in place, by cause. */
function Fix({ e, orders, onDone, onSaid }: { e: Exception; orders: string[]; onDone: () => void; onSaid: (text: string) => void }) {
  const action = useAction((d) => {
    onSaid(`${count(d.done)} of ${count(d.total)} go on`);
    onDone();
  });
  const letGo = useMutation({
    mutationFn: () => take(api.POST("/api/v1/exceptions/let-go", { body: group(e) })),
    onSuccess: action.follow,
  });
  const going = action.result !== null && action.result.state !== "done" ? action.result : null;
  const again = useMutation({
    mutationFn: () => take(api.POST("/api/v1/exceptions/send-again", { body: group(e) })),
    onSuccess: (d) => {
      onSaid(`${count(d.count)} are sent again` + (d.refused ? `; ${count(d.refused)} cannot be: ${d.why}` : ""));
      onDone();
    },
  });
  const takeIn = useMutation({
    mutationFn: () => take(api.POST("/api/v1/connections/{code}/try-again", { params: { path: { code: e.connection ?? "" } } })),
    onSuccess: (d) => {
      onSaid(`${d.messages} are taken in again`);
      onDone();
    },
  });
  const notBought = useMutation({
    mutationFn: (id: number) => take(api.POST("/api/v1/outbox/{id}/not-bought", { params: { path: { id } } })),
    onSuccess: () => {
      onSaid("The parcel can be shipped anew");
      onDone();
    },
  });
  const settle = useMutation({ mutationFn: () => take(api.POST("/api/v1/exceptions/settle", { body: group(e) })), onSuccess: onDone });
  let body: ReactNode;
  const waved = [
    "total differs",
    "changed at the channel",
    "cancelled too late",
    "wants a look",
    "not answered in time",
    "held by a person",
    "held by a rule",
  ];
  if (e.cause === "unknown item" && e.connection)
    body = (
      <Known
        e={e}
        onDone={(text) => {
          onSaid(text);
          onDone();
        }}
      />
    );
  else if (waved.includes(e.cause))
    body = (
      <>
        <Button kind="main" onClick={() => letGo.mutate()} disabled={letGo.isPending || going !== null || e.orders === 0}>
          {e.orders === 1 ? "Let it go on" : `Let ${count(e.orders)} orders go on`}
        </Button>
        {going && (
          <p role="status" className="text-quiet">
            {count(going.settled)} of {count(going.total)} have their outcome; it goes on by itself
          </p>
        )}
      </>
    );
  else if (e.cause === "label not known")
    body = (
      <div className="flex flex-wrap gap-2">
        <Button kind="main" onClick={() => again.mutate()} disabled={again.isPending}>
          Ask the carrier again
        </Button>
        <Button onClick={() => notBought.mutate(e.outbox_id ?? 0)} disabled={notBought.isPending}>
          The carrier has no such label
        </Button>
      </div>
    );
  else if (e.cause in dealtWith)
    body = (
      <div className="flex flex-wrap gap-2">
        <Button kind="main" onClick={() => settle.mutate()} disabled={settle.isPending}>
          {dealtWith[e.cause]}
        </Button>
        {orders[0] && <Go to={`/orders/${orders[0]}`}>See the order</Go>}
      </div>
    );
  else if (e.cause === "item not known there" && e.connection) body = <SayItem partner={e.connection} sku={e.subject} onDone={onDone} />;
  else if (["request not taken", "partner silent", "request to look at"].includes(e.cause))
    body = <Go to={`/requests?request=${encodeURIComponent(e.subject)}`}>See the request</Go>;
  else if (e.cause === "stock differs") body = <Go to={`/partners/stock?partner=${e.connection ?? ""}`}>Look at each</Go>;
  else if (e.cause === "bill differs") body = <Go to="/bills">Look at the lines</Go>;
  else if (e.cause === "printer off") body = <Go to="/settings/printing">See what waits</Go>;
  else if (["parcel late", "parcel stuck", "parcel lost", "parcel not taken"].includes(e.cause) && e.parcel)
    body = <Go to={`/parcels/${e.parcel}`}>See the parcel</Go>;
  else if (e.cause === "return to be decided") body = <Go to={`/returns/${encodeURIComponent(e.subject)}`}>Decide on it</Go>;
  else if (e.cause === "label refused" && !e.outbox_id) body = <Go to={`/returns/${encodeURIComponent(e.subject)}`}>Buy another label</Go>;
  else if (e.cause === "service to be chosen")
    body = (
      <div className="flex flex-wrap gap-2">
        <Go to={`/orders/${orders[0] ?? ""}`}>Choose for this order</Go>
        {e.connection && <Go to={`/connections/${e.connection}`}>Say what “{e.subject}” stands for</Go>}
      </div>
    );
  else if (e.cause === "dispatch not applied")
    body = (
      <div className="flex flex-wrap gap-2">
        <Button kind="main" onClick={() => takeIn.mutate()} disabled={takeIn.isPending}>
          Take in again
        </Button>
        {orders[0] && <Go to={`/orders/${orders[0]}`}>See the order</Go>}
      </div>
    );
  else if (e.outbox_id)
    body = (
      <Button kind="main" onClick={() => again.mutate()} disabled={again.isPending}>
        {e.count === 1 ? "Send it again" : `Send ${count(e.count)} again`}
      </Button>
    );
  else if (e.inbox_id)
    body = (
      <div className="flex flex-wrap gap-2">
        {e.cause === "message not understood" && (
          <Go to={`/type?inbox=${e.inbox_id}&connection=${e.connection}`}>Type it beside the original</Go>
        )}
        <Button
          kind={e.cause === "message not understood" ? undefined : "main"}
          onClick={() => takeIn.mutate()}
          disabled={takeIn.isPending}
        >
          Take in again
        </Button>
      </div>
    );
  else if (e.cause === "bad address" || e.cause === "address not deliverable" || e.cause === "wants an answer")
    body = <Go to={`/orders/${orders[0] ?? ""}`}>{e.cause === "wants an answer" ? "Answer" : "Correct the address"}</Go>;
  else if (e.cause === "no stock" || e.sku) body = <Go to={`/items/${encodeURIComponent(e.subject || e.sku || "")}`}>See its stock</Go>;
  else if (e.cause === "connection dead" || e.cause === "backlog") body = <Go to={`/connections/${e.connection}`}>Look at it</Go>;
  else if (e.cause === "backup failed") body = <Go to="/settings/keeping">Look at backups</Go>;
  else if (e.cause === "credentials refused") body = <Go to={`/connections/${e.connection}`}>Renew access</Go>;
  return (
    <div className="flex flex-col items-start gap-2">
      {body}
      {e.settled && !(e.cause in dealtWith) && e.cause !== "label not known" && (
        <Button kind="quiet" onClick={() => settle.mutate()} disabled={settle.isPending}>
          It was dealt with elsewhere
        </Button>
      )}
      <Trouble error={letGo.error ?? action.error ?? notBought.error ?? again.error ?? takeIn.error ?? settle.error} />
    </div>
  );
}

/** A link that leads to where it is mended. */
function Go({ to, children }: { to: string; children: ReactNode }) {
  return (
    <Link to={to} className="inline-flex items-center rounded-[3px] border border-ink bg-ink px-3 py-1 text-paper">
      {children}
    </Link>
  );
}

/** Says which item is sold under an unknown SKU. */
function Known({ e, onDone }: { e: Exception; onDone: (text: string) => void }) {
  const suggested = useQuery({
    queryKey: ["suggest", keyOf(e)],
    queryFn: () => take(api.GET("/api/v1/exceptions/suggest", { params: { query: { connection: e.connection ?? "", sold: e.subject } } })),
  });
  const [sku, setSku] = useState("");
  const known = useMutation({
    mutationFn: (x: { sku: string; create: boolean }) =>
      take(api.POST("/api/v1/exceptions/known", { body: { connection: e.connection ?? "", sold: e.subject, ...x } })),
    onSuccess: (k) => onDone(`${e.subject} is ${k.sku} now; ${k.freed} ${k.freed === 1 ? "order goes" : "orders go"} on`),
  });
  return (
    <div className="flex w-full flex-col gap-2">
      {suggested.data?.map((s) => (
        <div key={s.sku} className="flex items-start justify-between gap-3 border-b border-rule pb-2">
          <div>
            <span className="code font-medium">{s.sku}</span> {s.name}
            <div className="text-[12px] text-quiet">
              {s.score} % · {s.why.join("; ")}
            </div>
          </div>
          <Button
            onClick={() => known.mutate({ sku: s.sku, create: false })}
            disabled={known.isPending}
            aria-label={`${e.subject} is ${s.sku}`}
          >
            It is this
          </Button>
        </div>
      ))}
      <form
        className="flex flex-wrap gap-2"
        onSubmit={(x) => {
          x.preventDefault();
          known.mutate({ sku, create: false });
        }}
      >
        <input
          className="field code w-36"
          aria-label="SKU of the item"
          placeholder="another SKU"
          value={sku}
          onChange={(x) => setSku(x.target.value)}
        />
        <Button type="submit" disabled={!sku || known.isPending}>
          It is this
        </Button>
        <Button onClick={() => known.mutate({ sku: sku || e.subject, create: true })} disabled={known.isPending}>
          Make it a new item
        </Button>
      </form>
      <Trouble error={known.error} />
    </div>
  );
}

import { orderQuery } from "../../api/queries";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Fragment, useState, type FormEvent } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, take, type Schema } from "../../api/client";
import { CancelUnits } from "./cancel";
import { Button, Head, Loading, Sheet, Trouble } from "../../parts/controls";
import { AskedOf } from "./asked";
import { SentFrom } from "./places";
import { Plan } from "./plan";
import { OrderReturns } from "./returns";
import { AnswerIt, Compared, HandOver, Members, More, Sum, Tags, Touched } from "./parts";
import { decimal, Money, When } from "../../parts/format";
import { Lamp, MessageState, Stage } from "../../parts/lamp";
import { LeavesBy } from "../../parts/leavesby";
import { addressFields } from "../../shared/address/fields";
import { AddressCheck } from "./addresscheck";
import { PickupPoint } from "./pickuppoint";
import { Companions } from "../../shared/together/companions";

type Order = Schema<"Order">;

const waved = [
  "address not deliverable",
  "total differs",
  "changed at the channel",
  "cancelled too late",
  "wants a look",
  "not answered in time",
  "held by a person",
  "held by a rule",
];

export default function OrderPage() {
  const { number = "" } = useParams();
  const navigate = useNavigate();
  const client = useQueryClient();
  const q = useQuery(orderQuery(number));
  const pick = useMutation({
    mutationFn: () => take(api.POST("/api/v1/orders/{number}/pick", { params: { path: { number } } })),
    onSuccess: ({ shipment }) => {
      void client.invalidateQueries({ queryKey: ["order", number] });
      void navigate(`/pick/${shipment}`);
    },
  });
  const release = useMutation({
    mutationFn: (cause: string) =>
      take(
        api.POST("/api/v1/orders/{number}/release", {
          params: { path: { number }, header: { "If-Match": `"${q.data?.revision}"` } },
          body: { cause },
        }),
      ),
    onSuccess: () => void client.invalidateQueries({ queryKey: ["order", number] }),
  });
  const [raw, setRaw] = useState<number | null>(null);
  const [moving, setMoving] = useState(false);
  if (q.isPending) return <Loading />;
  if (q.error) return <Trouble error={q.error} />;
  const o = q.data;
  const open = o.shipments.find((s) => s.state === "picking" || s.state === "packed");
  const workable = o.actions.includes("pick");
  const version = raw === null ? undefined : o.versions[raw];
  return (
    <>
      <Head
        title={
          <>
            Order <span className="font-mono">{o.number}</span>
          </>
        }
        sub={
          <span className="flex flex-wrap items-center gap-x-4">
            <Stage stage={o.stage} />
            <span>
              {o.connection_name} <span className="code">{o.record.number}</span> says {o.record.state}
            </span>
            <span>
              {o.typed_by ? `typed by ${o.typed_by}` : `taken in by ${o.via}`} <When at={o.received_at} />
            </span>
            {o.leaves_by && ["routed", "ready", "picking", "packed"].includes(o.stage) && (
              <span>
                leaves by <LeavesBy at={o.leaves_by} />
              </span>
            )}
            {o.assignee && <span>looked after by {o.assignee}</span>}
            {o.merged_into && (
              <span>
                part of the day&apos;s summary{" "}
                <Link
                  className="code underline decoration-rule underline-offset-4 hover:decoration-ink"
                  to={`/orders/${encodeURIComponent(o.merged_into)}`}
                >
                  {o.merged_into}
                </Link>
              </span>
            )}
          </span>
        }
      >
        {o.record.url && (
          <a
            className="underline decoration-rule underline-offset-4 hover:decoration-ink"
            href={o.record.url}
            target="_blank"
            rel="noreferrer"
          >
            Open at {o.connection_name}
          </a>
        )}
        {o.shipments.length > 0 && (
          <a
            className="underline decoration-rule underline-offset-4 hover:decoration-ink"
            href={`/api/v1/orders/${o.number}/pick-list.pdf`}
            target="_blank"
            rel="noreferrer"
          >
            Pick list
          </a>
        )}
        {workable && (
          <Button kind="main" onClick={() => pick.mutate()} disabled={pick.isPending}>
            {o.stage === "ready" ? "Pick" : "Go on picking"}
          </Button>
        )}
        {o.actions.includes("hand over") && <HandOver number={o.number} />}
        {o.stage === "packed" && open && (
          <Button kind="main" onClick={() => void navigate(open.parcels.length > 1 ? `/pack/${open.number}` : `/parcels/${open.number}`)}>
            Ship
          </Button>
        )}
        <More order={o} />
      </Head>
      <Trouble error={pick.error ?? release.error} />
      {o.hidden && <p className="mb-3 text-quiet">Names, addresses and notes are hidden from your role.</p>}
      {o.forgotten && (
        <p className="mb-3 text-quiet">
          Personal data was removed <When at={o.forgotten} />. The money and the goods stay.
        </p>
      )}
      {o.actions.includes("answer") && o.ours.answer && <AnswerIt order={o} />}
      {o.holds
        .filter((h) => h.cause !== "wants an answer" || !o.actions.includes("answer"))
        .map((h) => (
          <div key={h.cause} className="mb-3 flex flex-wrap items-start justify-between gap-3 border-l-4 border-caution bg-sheet px-3 py-2">
            <div>
              <Lamp state="caution">
                <strong className="font-medium">Held: {h.cause}</strong>
              </Lamp>
              <div>{h.text}</div>
              <div className="text-quiet">Expected: {h.expected}</div>
            </div>
            {["bad address", "address not deliverable"].includes(h.cause) && (
              <Button onClick={() => setMoving(true)}>Correct the address</Button>
            )}
            {h.cause === "unknown item" && (
              <Link
                to={`/exceptions?cause=${encodeURIComponent(h.cause)}`}
                className="inline-flex items-center rounded-[3px] border border-rule bg-sheet px-3 py-1 hover:border-ink"
              >
                Say what it is
              </Link>
            )}
            {waved.includes(h.cause) && (
              <Button onClick={() => release.mutate(h.cause)} disabled={release.isPending}>
                Let it go on
              </Button>
            )}
          </div>
        ))}
      <div className="grid grid-cols-[minmax(0,1fr)_330px] gap-8 max-lg:grid-cols-1">
        <div className="flex min-w-0 flex-col gap-7">
          <Tags order={o} />
          <Lines order={o} />
          <SentFrom order={o} />
          <AskedOf order={o} />
          {(workable || open) && <Companions order={o.number} />}
          {(o.record.kitchen_note || o.record.gift_note) && (
            <p className="border-l-4 border-ink bg-sheet px-3 py-2">
              {o.record.kitchen_note && (
                <>
                  <span className="text-quiet">To the kitchen: </span>
                  <strong className="font-medium">{o.record.kitchen_note}</strong>
                </>
              )}
              {o.record.gift_note && (
                <>
                  <span className="text-quiet"> Put in: </span>
                  <strong className="font-medium">{o.record.gift_note}</strong>
                </>
              )}
            </p>
          )}
          {o.members && o.members.length > 0 && <Members order={o} />}
          <AddressCheck order={o} />
          <PickupPoint order={o} />
          <SideBySide order={o} onRaw={setRaw} onMove={o.actions.includes("address") ? () => setMoving(true) : undefined} />
          <Sum order={o} />
          {o.ours.touched && o.ours.touched.length > 0 && <Touched order={o} />}
          {o.shipments.length > 0 && <Shipments order={o} />}
          <OrderReturns order={o} />
          {o.write_backs.length > 0 && <WriteBacks order={o} />}
        </div>
        <Timeline order={o} />
      </div>
      <Sheet open={moving} onClose={() => setMoving(false)} title={`Where ${o.number} goes`}>
        {moving && <Address order={o} onDone={() => setMoving(false)} />}
      </Sheet>
      <Sheet
        open={version !== undefined}
        onClose={() => setRaw(null)}
        title={`As ${o.connection_name} sent it, version ${version?.version}`}
        wide
      >
        <div className="mb-2 flex flex-wrap gap-2">
          {o.versions.map((v, i) => (
            <Button key={v.version} kind={i === raw ? "main" : "plain"} onClick={() => setRaw(i)}>
              {v.version} <span className="text-[12px] opacity-75">{v.via}</span>
            </Button>
          ))}
        </div>
        {version && (
          <p className="mb-2 text-quiet">
            Received <When at={version.received_at} />, {version.state} {version.reason}
          </p>
        )}
        {version && <Compared order={o} version={version.version} />}
        <pre className="code overflow-auto border-t border-rule pt-2 leading-5">{JSON.stringify(version?.record, null, 2)}</pre>
      </Sheet>
    </>
  );
}

function Lines({ order: o }: { order: Order }) {
  const [cancelling, setCancelling] = useState(false);
  const [planning, setPlanning] = useState(false);
  const buckets = ["waiting", "allocated", "picked", "packed", "shipped", "cancelled"] as const;
  return (
    <section>
      <div className="mb-1 flex items-baseline justify-between">
        <h2>Lines</h2>
        <span className="flex gap-4">
          {o.actions.includes("plan") && (
            <Button kind="quiet" onClick={() => setPlanning(true)}>
              Send otherwise
            </Button>
          )}
          {o.actions.includes("cancel") && (
            <Button kind="quiet" onClick={() => setCancelling(true)}>
              Cancel units
            </Button>
          )}
        </span>
      </div>
      <Sheet open={planning} onClose={() => setPlanning(false)} title={`Send ${o.number} otherwise`}>
        <Plan key={o.revision} order={o} onDone={() => setPlanning(false)} />
      </Sheet>
      <Sheet open={cancelling} onClose={() => setCancelling(false)} title={`Cancel units of ${o.number}`}>
        <CancelUnits key={o.revision} order={o} onDone={() => setCancelling(false)} />
      </Sheet>
      <table className="ledger">
        <thead>
          <tr>
            <th>SKU</th>
            <th>Item</th>
            <th className="r">Ordered</th>
            {buckets.map((b) => (
              <th key={b} className="r">
                {b[0]?.toUpperCase() + b.slice(1)}
              </th>
            ))}
            <th>At</th>
          </tr>
        </thead>
        <tbody>
          {o.lines.map((l) => (
            <tr key={l.id}>
              <td>
                {l.item_id ? (
                  <Link
                    to={`/items/${encodeURIComponent(l.sku)}`}
                    className="code underline decoration-rule underline-offset-4 hover:decoration-ink"
                  >
                    {l.sku}
                  </Link>
                ) : (
                  <span className="code text-caution">{l.sku}</span>
                )}
              </td>
              <td>
                {l.title}
                {l.choices && l.choices.length > 0 && (
                  <div className="text-[12px] text-quiet">{l.choices.map((c) => c.name).join(", ")}</div>
                )}
                {l.note && <div className="text-[12px]">“{l.note}”</div>}
                {!!l.kept_back && <div className="text-[12px] text-caution">{l.kept_back} kept back</div>}
              </td>
              <td className="r fig font-medium">{l.quantity}</td>
              {buckets.map((b) => (
                <td key={b} className={`r fig ${l[b] ? (b === "waiting" ? "text-caution" : "") : "text-quiet"}`}>
                  {l[b]}
                </td>
              ))}
              <td className="whitespace-nowrap">{l.at.map((a) => a.location).join(", ")}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

/** Our figures beside the channel's; where they differ, both are marked. */
function SideBySide({ order: o, onRaw, onMove }: { order: Order; onRaw: (i: number) => void; onMove?: () => void }) {
  const m = o.record;
  const cur = m.currency;
  const live = (n: { quantity: number; cancelled: number }) => n.quantity - n.cancelled;
  const address = (a: Order["ship_to"]) =>
    [a.name, a.company, a.street, a.extra, `${a.postcode} ${a.town}`, a.country].filter((x) => x?.trim()).join(", ");
  const theirs = new Map(m.lines.map((l) => [l.id, l]));
  const rows: { what: string; ours: string; their: string; fig?: boolean; skip?: boolean; booked?: number }[] = [
    { what: "Number", ours: o.number, their: m.number, skip: true },
    { what: "State", ours: o.stage, their: m.state, skip: true },
    ...o.lines.map((l) => {
      const t = theirs.get(l.outside_id);
      return {
        what: l.sku,
        ours: `${live(l)} × ${decimal(l.unit_price, cur)}`,
        their: t ? `${t.quantity} × ${decimal(t.unit_price, cur)}` : "no such line",
        fig: true,
        skip: o.stage === "cancelled",
      };
    }),
    {
      what: "Goods",
      ours: decimal(o.totals.goods, cur),
      their: decimal(
        m.lines.reduce((n, l) => n + l.total, 0),
        cur,
      ),
      fig: true,
    },
    { what: "Shipping", ours: decimal(o.totals.shipping, cur), their: decimal(m.shipping, cur), fig: true },
    { what: "Discount", ours: decimal(o.totals.discount, cur), their: decimal(m.discount, cur), fig: true },
    ...(m.vouchers?.length
      ? [
          {
            what: m.vouchers.length === 1 ? "Voucher" : "Vouchers",
            ours: decimal(o.totals.vouchers, cur),
            their: m.vouchers.map((v) => `${v.code} ${decimal(v.amount, cur)}`).join(", "),
            fig: true,
            skip: true,
          },
        ]
      : []),
    {
      what: m.prices_include_tax ? "Tax, included" : "Tax, added",
      ours: decimal(o.totals.tax, cur),
      their: decimal(m.tax, cur),
      fig: true,
    },
    {
      what: `Total ${cur}`,
      ours: decimal(o.totals.total, cur),
      their: decimal(m.total, cur),
      fig: true,
      booked: o.ours.booked || undefined,
    },
    { what: "Ship to", ours: address(o.ship_to), their: address(m.ship_to) },
  ];
  return (
    <section>
      <div className="mb-1 flex items-baseline justify-between">
        <h2>Ours beside the channel's</h2>
        {o.versions.length > 0 && (
          <Button kind="quiet" onClick={() => onRaw(o.versions.length - 1)}>
            As received ({o.versions.length} {o.versions.length === 1 ? "version" : "versions"})
          </Button>
        )}
      </div>
      <table className="ledger" data-testid="side-by-side">
        <thead>
          <tr>
            <th className="w-32" />
            <th>Ours, recalculated</th>
            <th>{o.connection_name}</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((r) => {
            const differs = !r.skip && !r.booked && r.ours !== r.their;
            return (
              <tr key={r.what} className={r.what.startsWith("Total") ? "font-medium" : ""}>
                <td className={`text-quiet ${r.fig && r.what.includes("-") ? "code" : ""}`}>{r.what}</td>
                <td className={`${r.fig ? "code" : ""} ${differs ? "text-stop" : ""}`}>{r.ours}</td>
                <td className={`${r.fig ? "code" : ""} ${differs ? "text-stop" : ""}`}>
                  {r.their} {differs && <Lamp state="stop">differs</Lamp>}
                  {r.booked && (
                    <span className="block font-sans text-[12px] font-normal text-quiet">
                      {decimal(r.booked, cur)} booked to {o.ours.account}
                    </span>
                  )}
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
      <p className="mt-2 text-[12px] text-quiet">
        {m.paid ? "Paid" : "Not paid"} by {m.payment || "no known method"}
        {o.ours.payment_account ? ` (${o.ours.payment_account})` : ""} · wished delivery {m.requested_service || "none"}
        {m.window_from || m.window_to ? ` · between ${m.window_from || "now"} and ${m.window_to || "any time"}` : ""}
        {m.note ? ` · note: ${m.note}` : ""}
        {o.customer ? (
          <>
            {" · "}
            <Link className="underline decoration-rule underline-offset-4 hover:decoration-ink" to={`/orders?customer=${o.customer.id}`}>
              {o.customer.orders === 1 ? "first order of this buyer" : `${o.customer.orders} orders of this buyer`}
            </Link>
          </>
        ) : null}
        {onMove && (
          <Button kind="quiet" className="ml-4 text-[12px]" onClick={onMove}>
            Change the address
          </Button>
        )}
      </p>
    </section>
  );
}

/** Changes where an order goes; the revision keeps two people from overwriting each other. */
function Address({ order: o, onDone }: { order: Order; onDone: () => void }) {
  const client = useQueryClient();
  const [to, setTo] = useState(o.ship_to);
  const save = useMutation({
    mutationFn: () =>
      take(
        api.PUT("/api/v1/orders/{number}/address", {
          params: { path: { number: o.number }, header: { "If-Match": `"${o.revision}"` } },
          body: to,
        }),
      ),
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: ["order", o.number] });
      onDone();
    },
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    save.mutate();
  };
  return (
    <form onSubmit={submit} className="grid grid-cols-2 gap-3">
      {addressFields.map(([key, label]) => (
        <label key={key} className="flex flex-col gap-1">
          <span className="text-quiet">{label}</span>
          <input className="field" name={key} value={to[key] ?? ""} onChange={(e) => setTo({ ...to, [key]: e.target.value })} />
        </label>
      ))}
      <p className="col-span-2 text-[12px] text-quiet">
        The channel&apos;s own record stays as it is:{" "}
        {[o.record.ship_to.street, o.record.ship_to.postcode, o.record.ship_to.town].join(", ")}
      </p>
      <div className="col-span-2 flex flex-col gap-3">
        <Trouble error={save.error} />
        <Button kind="main" type="submit" disabled={save.isPending}>
          Change the address
        </Button>
      </div>
    </form>
  );
}

function Shipments({ order: o }: { order: Order }) {
  const link = "code underline decoration-rule underline-offset-4 hover:decoration-ink";
  return (
    <section>
      <h2 className="mb-1">Shipments and parcels</h2>
      <table className="ledger">
        <tbody>
          {o.shipments.map((s) => (
            <Fragment key={s.number}>
              <tr>
                <td>
                  <Link to={s.picked < s.quantity ? `/pick/${s.number}` : `/pack/${s.number}`} className={link}>
                    {s.number}
                  </Link>
                </td>
                <td colSpan={2}>
                  {s.location}: {s.picked} of {s.quantity} picked, {s.packed} packed
                </td>
                <td className="r">{s.state}</td>
              </tr>
              {s.parcels.map((p) => (
                <tr key={p.number} className={p.state === "called off" ? "text-quiet" : ""}>
                  <td className="pl-4!">
                    <Link to={`/parcels/${p.number}`} className={link}>
                      {p.number}
                    </Link>
                  </td>
                  <td>
                    {p.quantity} units, {p.state}
                    <div className="text-quiet">
                      {p.carrier} {p.service_name}
                    </div>
                  </td>
                  <td className="code">{p.tracking}</td>
                  <td className="r">{p.price ? <Money minor={p.price} currency={p.currency ?? ""} /> : null}</td>
                </tr>
              ))}
            </Fragment>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function WriteBacks({ order: o }: { order: Order }) {
  return (
    <section>
      <h2 className="mb-1">Sent to others</h2>
      <table className="ledger">
        <thead>
          <tr>
            <th>What</th>
            <th>To</th>
            <th>State</th>
            <th>Reference</th>
            <th>Sent</th>
          </tr>
        </thead>
        <tbody>
          {o.write_backs.map((w) => (
            <tr key={w.id}>
              <td>{{ "labels out": "Label asked", "dispatch out": "Tracking number" }[w.feed] ?? w.feed}</td>
              <td>{w.connection_name}</td>
              <td>
                <MessageState state={w.state} />
                {w.error && <div className="text-[12px] text-stop">{w.error}</div>}
              </td>
              <td className="code">{w.reference}</td>
              <td>
                <When at={w.confirmed_at ?? w.sent_at} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function Timeline({ order: o }: { order: Order }) {
  return (
    <section aria-label="Timeline">
      <h2 className="mb-2">What happened</h2>
      <ol className="relative">
        <li aria-hidden="true" className="absolute top-2 bottom-2 left-[5px] w-px bg-rule" />
        {o.timeline.map((e) => (
          <li key={e.id} className="relative pb-3 pl-6">
            <span
              aria-hidden="true"
              className="absolute top-[5px] left-0 h-[11px] w-[11px] rounded-full border-[1.6px] border-quiet bg-paper"
            />
            <div>{e.text}</div>
            <div className="text-[12px] text-quiet">
              <When at={e.at} /> · {e.who}
            </div>
          </li>
        ))}
        {o.thinned_before && (
          <li className="relative pb-3 pl-6 text-quiet">
            Steps between its taking in and its end were taken out after their time; those before <When at={o.thinned_before} />.
          </li>
        )}
      </ol>
    </section>
  );
}

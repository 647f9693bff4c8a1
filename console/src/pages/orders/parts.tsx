import { connectionQuery } from "../../api/queries";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { DropdownMenu } from "radix-ui";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, take, type Schema } from "../../api/client";
import { Countdown } from "../../parts/countdown";
import { Button, Sheet, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import { count, decimal, Money, When } from "../../parts/format";
import { Lamp, Stage } from "../../parts/lamp";
import type { Done } from "../../shared/orders/action";

type Order = Schema<"Order">;

function useOrderDone(number: string) {
  const client = useQueryClient();
  return () => {
    for (const key of [["order", number], ["orders"], ["board"]]) void client.invalidateQueries({ queryKey: key });
  };
}

/** A channel waits: accept with a time, or decline with a reason, before the time is over. */
export function AnswerIt({ order: o }: { order: Order }) {
  const done = useOrderDone(o.number);
  const connection = useQuery({ ...connectionQuery(o.connection), staleTime: 60_000 });
  const [typed, type] = useState<string>();
  const minutes = typed ?? String(connection.data?.settings.prep_minutes || 20);
  const [reason, setReason] = useState("");
  const answer = useMutation({
    mutationFn: (accept: boolean) =>
      take(
        api.POST("/api/v1/orders/{number}/answer", {
          params: { path: { number: o.number } },
          body: { accept, minutes: Number(minutes), reason },
        }),
      ),
    onSuccess: done,
  });
  return (
    <form
      className="mb-3 flex flex-wrap items-end gap-4 border-l-4 border-busy bg-sheet px-3 py-3"
      onSubmit={(e) => {
        e.preventDefault();
        answer.mutate(true);
      }}
    >
      <div className="mr-4">
        <div className="text-quiet">{o.connection_name} waits</div>
        <Countdown to={o.ours.answer?.by ?? ""} className="text-[26px] leading-8" />
      </div>
      <Labelled label="Ready in minutes">
        <input className="field fig w-24" type="number" min={0} max={43200} value={minutes} onChange={(e) => type(e.target.value)} />
      </Labelled>
      <Button kind="main" type="submit" disabled={answer.isPending}>
        Accept
      </Button>
      <Labelled label="Or why not">
        <input className="field w-56" value={reason} maxLength={300} onChange={(e) => setReason(e.target.value)} />
      </Labelled>
      <Button onClick={() => answer.mutate(false)} disabled={answer.isPending || reason.trim() === ""}>
        Decline
      </Button>
      <Trouble error={answer.error} />
    </form>
  );
}

export function HandOver({ number }: { number: string }) {
  const done = useOrderDone(number);
  const give = useMutation({
    mutationFn: () => take(api.POST("/api/v1/orders/{number}/hand-over", { params: { path: { number } } })),
    onSuccess: done,
  });
  return (
    <>
      <Button kind="main" onClick={() => give.mutate()} disabled={give.isPending}>
        Hand over
      </Button>
      <Trouble error={give.error} />
    </>
  );
}

/** Tells why an action on one order was refused. One that is still under way goes on by itself. */
function told(d: Done) {
  const refused = d.results.find((r) => r.state === "refused");
  if (refused) throw new Error(refused.text);
  return d;
}

type Doing = "hold" | "cancel" | "void" | "assign" | null;

const asks: Record<NonNullable<Doing>, { title: string; label: string; verb: string; says?: string }> = {
  hold: { title: "Hold it", label: "Why", verb: "Hold it" },
  cancel: {
    title: "Cancel it here",
    label: "Why",
    verb: "Cancel the order",
    says: "What is not shipped is cancelled and its stock released. The channel is not told.",
  },
  void: {
    title: "Void it",
    label: "Why",
    verb: "Void the order",
    says: "The order stays for the record and counts no more; its stock is released. The channel's order can then be taken in again.",
  },
  assign: { title: "Who looks after it", label: "Person; empty for nobody", verb: "Assign" },
};

/** What can be done with an order beside its main action. */
export function More({ order: o }: { order: Order }) {
  const done = useOrderDone(o.number);
  const navigate = useNavigate();
  const [doing, setDoing] = useState<Doing>(null);
  const [value, setValue] = useState("");
  const [release, setRelease] = useState(false);
  const act = useMutation({
    mutationFn: async (what: NonNullable<Doing>) => {
      if (what === "void")
        return take(
          api.POST("/api/v1/orders/{number}/void", {
            params: { path: { number: o.number }, header: { "If-Match": `"${o.revision}"` } },
            body: { reason: value, release_number: release },
          }),
        ).then((x) => x.number);
      told(await take(api.POST("/api/v1/orders/actions", { body: { action: what, value, orders: [o.number] } })));
      return o.number;
    },
    onSuccess: (number) => {
      setDoing(null);
      setValue("");
      done();
      if (number !== o.number) void navigate(`/orders/${encodeURIComponent(number)}`);
    },
  });
  const plain = useMutation({
    mutationFn: (what: "take-in-again" | "undo-merge" | "posted") => {
      const params = { params: { path: { number: o.number } } };
      if (what === "take-in-again") return take(api.POST("/api/v1/orders/{number}/take-in-again", params));
      if (what === "undo-merge") return take(api.POST("/api/v1/orders/{number}/undo-merge", params));
      return take(api.POST("/api/v1/orders/{number}/posted", params));
    },
    onSuccess: (x) => {
      done();
      if (x.number !== o.number) void navigate(`/orders/${encodeURIComponent(x.number)}`);
    },
  });
  const item = (label: string, on: () => void) => (
    <DropdownMenu.Item className="cursor-pointer px-3 py-1 data-highlighted:bg-wash" onSelect={on}>
      {label}
    </DropdownMenu.Item>
  );
  const can = (what: string) => o.actions.includes(what);
  return (
    <>
      <Trouble error={plain.error} />
      <DropdownMenu.Root>
        <DropdownMenu.Trigger asChild>
          <Button>More</Button>
        </DropdownMenu.Trigger>
        <DropdownMenu.Portal>
          <DropdownMenu.Content
            align="end"
            className="z-50 rounded-[3px] border border-rule bg-sheet p-1 shadow-[0_6px_24px_rgb(0_0_0/0.2)]"
          >
            {can("hold") && item("Hold it", () => setDoing("hold"))}
            {item("Assign it", () => setDoing("assign"))}
            {can("cancel") && item("Cancel it here", () => setDoing("cancel"))}
            {can("void") && item("Void it", () => setDoing("void"))}
            {can("take in again") && item("Take the channel's order in again", () => plain.mutate("take-in-again"))}
            {can("undo merge") && item("Take the summary apart", () => plain.mutate("undo-merge"))}
            {can("posted") && item("It was posted to the books", () => plain.mutate("posted"))}
            {item("What happened to orders", () => void navigate("/activity?thing=order"))}
          </DropdownMenu.Content>
        </DropdownMenu.Portal>
      </DropdownMenu.Root>
      <Sheet open={doing !== null} onClose={() => setDoing(null)} title={doing ? `${asks[doing].title}: ${o.number}` : ""}>
        {doing && (
          <form
            className="flex flex-col gap-3"
            onSubmit={(e) => {
              e.preventDefault();
              act.mutate(doing);
            }}
          >
            {asks[doing].says && <p>{asks[doing].says}</p>}
            <Labelled label={asks[doing].label}>
              <input className="field w-full" autoFocus value={value} maxLength={300} onChange={(e) => setValue(e.target.value)} />
            </Labelled>
            {doing === "void" && (
              <label className="flex items-center gap-2">
                <input type="checkbox" checked={release} onChange={(e) => setRelease(e.target.checked)} /> Release its number, so that the
                order that is taken in again gets it
              </label>
            )}
            <Trouble error={act.error} />
            <Button kind="main" type="submit" disabled={act.isPending}>
              {asks[doing].verb}
            </Button>
          </form>
        )}
      </Sheet>
    </>
  );
}

export function Tags({ order: o }: { order: Order }) {
  const done = useOrderDone(o.number);
  const [text, setText] = useState("");
  const act = useMutation({
    mutationFn: async (x: { action: "tag" | "untag"; value: string }) =>
      told(await take(api.POST("/api/v1/orders/actions", { body: { ...x, orders: [o.number] } }))),
    onSuccess: () => {
      setText("");
      done();
    },
  });
  return (
    <div className="flex flex-wrap items-center gap-2">
      <span className="text-quiet">Tags</span>
      {o.ours.tags?.map((t) => (
        <span key={t} className="inline-flex items-center gap-1 border border-rule px-1.5">
          <Link to={`/orders?tag=${encodeURIComponent(t)}`} className="hover:underline">
            {t}
          </Link>
          <button
            type="button"
            aria-label={`Take the tag ${t} off`}
            className="text-quiet hover:text-ink"
            onClick={() => act.mutate({ action: "untag", value: t })}
          >
            ×
          </button>
        </span>
      ))}
      <form
        onSubmit={(e) => {
          e.preventDefault();
          if (text.trim()) act.mutate({ action: "tag", value: text.trim() });
        }}
      >
        <input
          aria-label="Add a tag"
          className="field w-28 py-0!"
          placeholder="add a tag"
          maxLength={60}
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
      </form>
      <Trouble error={act.error} />
    </div>
  );
}

/** The sum behind the total, step by step, with what the channel says instead. */
export function Sum({ order: o }: { order: Order }) {
  const cur = o.record.currency;
  const differs = o.totals.steps.some((s) => s.theirs !== undefined);
  if (o.totals.steps.length === 0) return null;
  return (
    <details open={differs || !!o.ours.booked}>
      <summary className="cursor-pointer">
        <h2 className="inline">The sum</h2> {!differs && !o.ours.booked && <span className="text-[12px] text-quiet">it adds up</span>}
      </summary>
      <table className="ledger mt-1">
        <tbody>
          {o.totals.steps.map((s, i) => (
            <tr key={i} className={s.text === "total" ? "font-medium" : ""}>
              <td>{s.text}</td>
              <td className="r fig">{decimal(s.amount, cur)}</td>
              <td className="r fig text-stop">{s.theirs === undefined ? "" : `the channel: ${decimal(s.theirs, cur)}`}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {!!o.ours.booked && (
        <p className="mt-1">
          <Lamp state="go">
            {decimal(o.ours.booked, cur)} {cur} are booked to {o.ours.account}, within the tolerance
          </Lamp>
        </p>
      )}
    </details>
  );
}

export function Touched({ order: o }: { order: Order }) {
  return (
    <section>
      <h2 className="mb-1">Rules that touched it</h2>
      <table className="ledger">
        <tbody>
          {o.ours.touched?.map((t) => (
            <tr key={t.rule}>
              <td className="w-56">
                <Link className="underline decoration-rule underline-offset-4 hover:decoration-ink" to={`/rules/${t.rule}`}>
                  {t.name}
                </Link>
              </td>
              <td>{t.changes?.join("; ") || "nothing that was not so already"}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

export function Members({ order: o }: { order: Order }) {
  return (
    <section>
      <h2 className="mb-1">
        {count(o.ours.members ?? 0)} orders of {o.ours.day}
      </h2>
      <table className="ledger">
        <tbody>
          {o.members?.map((m) => (
            <tr key={m.number}>
              <td>
                <Link
                  className="code underline decoration-rule underline-offset-4 hover:decoration-ink"
                  to={`/orders/${encodeURIComponent(m.number)}`}
                >
                  {m.number}
                </Link>
              </td>
              <td className="code">{m.channel_number}</td>
              <td>
                <Stage stage={m.stage} />
              </td>
              <td>
                <When at={m.placed_at} />
              </td>
              <td className="r">
                <Money minor={m.total} currency={m.currency} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

/** What a version of the channel's record changed against the one before. */
export function Compared({ order: o, version }: { order: Order; version: number }) {
  const c = o.compared.find((x) => x.version === version);
  if (!c) return <p className="mb-2 text-quiet">The first version.</p>;
  if (c.changes.length === 0) return <p className="mb-2 text-quiet">Nothing in it differs from the one before.</p>;
  return (
    <table className="ledger mb-3">
      <thead>
        <tr>
          <th>Changed</th>
          <th>Was</th>
          <th>Is</th>
        </tr>
      </thead>
      <tbody>
        {c.changes.map((x) => (
          <tr key={x.field}>
            <td className="code">{x.field}</td>
            <td className="code text-quiet">{x.was || "nothing"}</td>
            <td className="code">{x.is || "nothing"}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

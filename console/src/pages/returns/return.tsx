import { clsx } from "clsx";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, Problem, take, type Schema } from "../../api/client";
import { may, meQuery } from "../../api/queries";
import { Button, Loading, Tab, Trouble } from "../../parts/controls";
import { When } from "../../parts/format";
import { commandOf } from "../../parts/commands";
import { ScanField, sound, Verdict, type Said } from "../../parts/scanner";
import { ReturnLabel } from "./label";
import { Settled, Settling } from "./settling";
import { ReturnState } from "./state";

type View = Schema<"ReturnView">;
type Line = View["lines"][number];
type Outcome = "stock" | "look" | "written off";

const outcomes: [Outcome, string, string][] = [
  ["stock", "To stock", "It can be sold again"],
  ["look", "To be looked at", "No stock until somebody has"],
  ["written off", "Written off", "It is of no use any more"],
];

const countOf = (l: Line, o: Outcome) => ({ stock: l.stock, look: l.look, "written off": l.written_off })[o];

export default function Return() {
  const { number = "" } = useParams();
  const key = ["return", number];
  const q = useQuery({ queryKey: key, queryFn: () => take(api.GET("/api/v1/returns/{number}", { params: { path: { number } } })) });
  const me = useQuery(meQuery);
  if (q.isPending) return <Loading />;
  if (q.error) return <Trouble error={q.error} large />;
  const r = q.data;
  const open = r.state === "announced" || r.state === "arrived";
  return (
    <>
      <div className="mb-4 flex flex-wrap items-baseline gap-x-4 gap-y-1">
        <Tab name={`Return ${r.number}`} />
        <h1>
          Return <span className="font-mono">{r.number}</span>
        </h1>
        <ReturnState of={r} />
        <span>
          of order{" "}
          <Link to={`/orders/${r.order_number}`} className="code underline decoration-rule underline-offset-4 hover:decoration-ink">
            {r.order_number}
          </Link>
          , {r.buyer}, to {r.location}
        </span>
      </div>
      {(r.reason || r.note || r.tracking) && (
        <p className="mb-4 max-w-3xl border-l-4 border-busy bg-sheet px-3 py-2">
          {r.reason && <span className="block">“{r.reason}”</span>}
          {r.note && <span className="block">{r.note}</span>}
          {r.tracking && (
            <span className="block text-quiet">
              comes as <span className="code">{r.tracking}</span>
            </span>
          )}
        </p>
      )}
      <div className="grid grid-cols-[minmax(0,1fr)_340px] gap-8 max-lg:grid-cols-1">
        <Bench key={r.number} r={r} open={open} />
        <aside className="flex flex-col gap-6">
          {open ? may(me.data, "orders") && <Settling key={r.revision} r={r} /> : <Settled r={r} />}
          {(may(me.data, "ship") || may(me.data, "orders")) && <ReturnLabel r={r} open={open} />}
          <section className="text-quiet">
            <h2 className="mb-1 text-ink">Since</h2>
            <p>
              {r.announced_by && `${r.announced_by}, `}
              <When at={r.created_at} />
            </p>
            {r.arrived_at && (
              <p>
                first here <When at={r.arrived_at} />
              </p>
            )}
          </section>
        </aside>
      </div>
    </>
  );
}

/** Where goods are scanned: first what becomes of them, then the goods. */
function Bench({ r, open }: { r: View; open: boolean }) {
  const client = useQueryClient();
  const [outcome, setOutcome] = useState<Outcome>("stock");
  const [bin, setBin] = useState("");
  const [said, setSaid] = useState<Said | null>(null);
  const [unsure, setUnsure] = useState("");
  const [last, setLast] = useState<{ code: string; from: Outcome } | null>(null); // what was scanned last, and what it became
  const path = { path: { number: r.number }, header: { "Idempotency-Key": "" } };
  const once = () => ({ ...path, header: { "Idempotency-Key": crypto.randomUUID() } });
  const took = (now: View, text: string) => {
    client.setQueryData(["return", r.number], now);
    void client.invalidateQueries({ queryKey: ["returns"] });
    void client.invalidateQueries({ queryKey: ["order", r.order_number] });
    setSaid({ good: true, text });
    setUnsure("");
    sound(true);
  };
  const refused = (e: Error, code: string) => {
    const [text = "", expected] = (e as Problem).detail.split(". Expected ");
    setSaid({ good: false, text, expected });
    setUnsure(text.includes("say that you are sure") ? code : "");
    sound(false);
  };
  const scan = useMutation({
    mutationFn: ({ code, sure }: { code: string; sure?: boolean }) =>
      take(
        api.POST("/api/v1/returns/{number}/scan", { params: once(), body: { ...codeOf(r, code), outcome, bin: bin || undefined, sure } }),
      ),
    onSuccess: (now, { code }) => {
      setLast({ code, from: outcome });
      took(now, `${code}: ${outcome === "stock" ? "to stock" : outcome === "look" ? "to be looked at" : outcome}`);
    },
    onError: (e, { code }) => refused(e, code),
  });
  const move = useMutation({
    mutationFn: ({ code, from, to }: { code: string; from: Outcome; to?: Outcome }) =>
      take(api.POST("/api/v1/returns/{number}/move", { params: once(), body: { code, from, to, bin: bin || undefined } })),
    onSuccess: (now, { code, to }) => {
      setLast(null);
      took(now, to ? `${code}: ${to === "stock" ? "to stock" : to}` : `${code} is taken back`);
    },
    onError: (e, { code }) => refused(e, code),
  });
  const scanned = (code: string) => {
    const command = commandOf(code);
    switch (command) {
      case "stock":
      case "look":
      case "written off":
        setOutcome(command);
        setSaid({ good: true, text: `What is scanned now: ${outcomes.find(([value]) => value === command)?.[1]}` });
        return sound(true);
      case "back":
        if (last) return move.mutate(last);
        setSaid({ good: false, text: "Nothing was scanned here that could be taken back" });
        return sound(false);
      default:
        return scan.mutate({ code });
    }
  };
  return (
    <div className="min-w-0 text-[16px] leading-6">
      {open && (
        <>
          <div role="radiogroup" aria-label="What becomes of it" className="mb-3 grid grid-cols-3 gap-2">
            {outcomes.map(([value, name, about]) => (
              <button
                key={value}
                type="button"
                role="radio"
                aria-checked={outcome === value}
                onClick={() => setOutcome(value)}
                className={clsx(
                  "min-h-14 rounded-[3px] border px-3 py-1.5 text-left",
                  outcome === value ? "border-ink bg-ink text-paper" : "border-rule bg-sheet hover:border-ink",
                )}
              >
                <span className="block font-medium">{name}</span>
                <span className={`block text-[13px] max-sm:hidden ${outcome === value ? "" : "text-quiet"}`}>{about}</span>
              </button>
            ))}
          </div>
          <ScanField placeholder="Scan what came back" busy={scan.isPending} onScan={scanned}>
            {outcome !== "written off" && (
              <input
                className="field code min-h-14 w-32"
                placeholder="Into bin"
                aria-label="Into bin"
                value={bin}
                onChange={(e) => setBin(e.target.value)}
              />
            )}
          </ScanField>
          <Verdict said={said} />
          {unsure && (
            <Button large className="mb-3" onClick={() => scan.mutate({ code: unsure, sure: true })}>
              It is of this order all the same
            </Button>
          )}
        </>
      )}
      <ul className="border-t border-ink">
        {r.lines.map((l) => (
          <LineRow
            key={`${l.line_id} ${l.sku}`}
            l={l}
            open={open}
            numbers={r.serials.filter((s) => s.sku === l.sku)}
            busy={scan.isPending || move.isPending}
            onTake={() => scan.mutate({ code: l.sku })}
            onMove={(code, from, to) => move.mutate({ code, from, to })}
          />
        ))}
      </ul>
    </div>
  );
}

/** A serial number that was scanned after its product: "SKU number". */
function codeOf(r: View, text: string) {
  const [sku, serial] = text.split(/\s+/, 2);
  const line = r.lines.find((l) => l.serials && l.sku.toLowerCase() === sku?.toLowerCase());
  return line && serial ? { code: line.sku, serial } : { code: text };
}

const came = (l: Line) => l.stock + l.look + l.written_off;

function LineRow({
  l,
  open,
  numbers,
  busy,
  onTake,
  onMove,
}: {
  l: Line;
  open: boolean;
  numbers: View["serials"];
  busy: boolean;
  onTake: () => void;
  onMove: (code: string, from: Outcome, to?: Outcome) => void;
}) {
  const act = (name: string, from: Outcome, to?: Outcome) => (
    <Button
      key={name + from}
      kind="quiet"
      className="min-h-12"
      disabled={busy}
      aria-label={`${name}: one ${l.sku}`}
      onClick={() => onMove(numbers.find((n) => n.outcome === from)?.serial ?? l.sku, from, to)}
    >
      {name}
    </Button>
  );
  return (
    <li className={`flex flex-wrap items-center gap-x-4 gap-y-1 border-b border-rule py-2 ${came(l) || l.announced ? "" : "text-quiet"}`}>
      <span className="min-w-0 flex-1">
        <span className="block">{l.name}</span>
        <span className="code text-quiet">
          {l.sku} {l.kit_sku && `part of ${l.kit_sku}`}
        </span>
        {numbers.map((n) => (
          <span key={n.serial} className="code block text-quiet">
            {n.serial} · {n.outcome}
          </span>
        ))}
      </span>
      {open && (
        <span className="flex flex-wrap gap-x-4 max-sm:order-last max-sm:w-full max-sm:justify-end">
          {l.left > 0 && !l.serials && (
            <Button kind="quiet" className="min-h-12" disabled={busy} aria-label={`One is here: ${l.sku}`} onClick={onTake}>
              One is here
            </Button>
          )}
          {l.look > 0 && act("Fit for stock", "look", "stock")}
          {l.look > 0 && act("Write off", "look", "written off")}
          {came(l) > 0 && act("Take back", l.stock ? "stock" : l.look ? "look" : "written off")}
        </span>
      )}
      <span className="w-32 text-right text-[14px]">
        <span className="fig block text-[20px]">
          {came(l)}
          <span className="text-quiet">/{Math.max(l.announced, came(l)) || l.sent}</span>
        </span>
        {outcomes
          .filter(([o]) => countOf(l, o) > 0)
          .map(([o, name]) => (
            <span key={o} className="block text-quiet">
              {countOf(l, o)} {name.toLowerCase()}
            </span>
          ))}
      </span>
    </li>
  );
}

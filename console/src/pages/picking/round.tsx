import { clsx } from "clsx";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, Problem, take, type Schema } from "../../api/client";
import { Button, Loading, Sheet, Tab, Trouble } from "../../parts/controls";
import { LampShape } from "../../parts/lamp";
import { commandOf } from "../../parts/commands";
import { PrintLinks } from "../../parts/printlinks";
import { ScanField, sound, Verdict, type Said } from "../../parts/scanner";
import { NotThere } from "./notthere";
import { WantRow } from "./wantrow";

type View = Schema<"RoundView">;
type Stop = View["stops"][number];

/** One walk for many orders: each item is collected once, and the page says into which slots of the cart it goes. */
export default function Round() {
  const { number = "" } = useParams();
  const q = useQuery({
    queryKey: ["round", number],
    queryFn: () => take(api.GET("/api/v1/rounds/{number}", { params: { path: { number } } })),
  });
  if (q.isPending) return <Loading />;
  if (q.error) return <Trouble error={q.error} large />;
  return <Walk r={q.data} />;
}

function Walk({ r }: { r: View }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const [bin, setBin] = useState("");
  const [last, setLast] = useState(""); // SKU of what was scanned last
  const [said, setSaid] = useState<Said | null>(null);
  const [short, setShort] = useState<Stop | null>(null);
  const path = { path: { number: r.number } };
  const keep = (now: View) => {
    client.setQueryData(["round", r.number], now);
    void client.invalidateQueries({ queryKey: ["rounds"] });
  };
  const good = (text: string, expected?: string) => {
    setSaid({ good: true, text, expected });
    sound(true);
  };
  const wrong = (e: Error) => {
    const p = e as Problem;
    setSaid({ good: false, text: p.detail.split(". Expected")[0] ?? p.detail, expected: p.expected });
    sound(false);
  };
  const scan = useMutation({
    mutationFn: ({ code, slot }: { code: string; slot?: number }) =>
      take(
        api.POST("/api/v1/rounds/{number}/scan", {
          params: { ...path, header: { "Idempotency-Key": crypto.randomUUID() } },
          body: { code, slot, bin: bin || undefined },
        }),
      ),
    onSuccess: (now) => {
      if (now.said?.kind === "product") setLast(now.said.sku ?? "");
      if (now.said?.kind === "bin") setBin(now.said.bin ?? "");
      else if (!now.stops.some((s) => s.bin === bin && s.picked < s.quantity)) setBin("");
      keep(now);
      good(now.said?.text ?? "", now.expected);
    },
    onError: wrong,
  });
  const back = useMutation({
    mutationFn: (code: string) => take(api.POST("/api/v1/rounds/{number}/take-back", { params: path, body: { code } })),
    onSuccess: (now, code) => {
      keep(now);
      setLast("");
      good(`One ${code} put back`, now.expected);
    },
    onError: wrong,
  });
  const over = useMutation({
    mutationFn: (really: boolean) => take(api.POST("/api/v1/rounds/{number}/take", { params: path, body: { over: really } })),
    onSuccess: keep,
    onError: wrong,
  });
  const open = r.state === "picking";
  const next = r.stops.find((s) => s.picked < s.quantity);
  const no = (text: string) => {
    setSaid({ good: false, text });
    sound(false);
  };
  const scanned = (code: string) => {
    switch (commandOf(code)) {
      case "back":
        return last ? back.mutate(last) : no("Nothing was scanned here that could be taken back");
      case "done":
        return next ? no(`${r.quantity - r.picked} units are still to be picked`) : void navigate(`/pack/${r.slots[0]?.shipment}`);
      case "next":
        return no("A carton is filled at the bench; all is to be picked first");
      default:
        return scan.mutate({ code });
    }
  };
  return (
    <div className="mx-auto max-w-3xl text-[18px] leading-6">
      <div className="mb-3 flex flex-wrap items-baseline justify-between gap-x-4">
        <Tab name={`Round ${r.number}`} />
        <h1>
          Round <span className="font-mono">{r.number}</span>
        </h1>
        <span className="text-[14px] text-quiet">
          {r.location}
          {r.holder ? ` · ${r.holder}` : ""} · {r.state}
        </span>
        <span className="fig" data-testid="progress">
          {r.picked}
          <span className="unit text-[14px]!">of {r.quantity} picked</span>
        </span>
      </div>
      <div className="mb-4 h-1.5 bg-rule" aria-hidden="true">
        <div className="h-full bg-go" style={{ width: `${r.quantity ? (r.picked / r.quantity) * 100 : 0}%` }} />
      </div>
      {open && !r.mine && (
        <div className="mb-4 flex flex-wrap items-center gap-4 border-l-8 border-caution bg-sheet px-4 py-3">
          <span>{r.holder} picks this round.</span>
          <Button large disabled={over.isPending} onClick={() => over.mutate(true)}>
            Take it over
          </Button>
        </div>
      )}
      {open && r.mine && (
        <ScanField
          placeholder={next ? (bin ? "Scan the product" : "Scan bin or product") : "All is picked"}
          busy={scan.isPending}
          onScan={scanned}
        />
      )}
      <Verdict said={said} />
      {!said && open && next && (
        <div className="mb-4 border-l-8 border-busy bg-sheet px-4 py-3">
          <div className="font-semibold">
            Bin <span className="font-mono">{next.bin || "none"}</span>: take {next.quantity - next.picked}
          </div>
          <div className="text-[16px]">{next.title}</div>
        </div>
      )}
      <Cart r={r} next={open ? next : undefined} />
      <ul className="mt-4 border-t border-ink">
        {r.stops.map((s) => (
          <WantRow
            key={s.item_id}
            want={s}
            next={s === next}
            work={open && r.mine}
            back={s.picked > 0}
            busy={back.isPending}
            about={
              <span className="block text-[14px]">
                {s.slots.map((x) => `${x.quantity} into slot ${x.slot}${x.picked ? ` (${x.picked} in)` : ""}`).join(", ")}
              </span>
            }
            onShort={() => setShort(s)}
            onBack={() => back.mutate(s.sku)}
          />
        ))}
      </ul>
      <Sheet open={short !== null} onClose={() => setShort(null)} title={short ? `${short.sku} is not there` : ""}>
        {short && (
          <NotThere
            want={short}
            report={(body, key) =>
              take(api.POST("/api/v1/rounds/{number}/short", { params: { ...path, header: { "Idempotency-Key": key } }, body }))
            }
            onDone={(text) => {
              setShort(null);
              setBin("");
              good(text);
              void client.invalidateQueries({ queryKey: ["round", r.number] });
            }}
          />
        )}
      </Sheet>
      <Ending r={r} onKeep={keep} onWrong={wrong} />
    </div>
  );
}

/** The slots of the cart: what is still to go into each, and what the next item goes into. */
function Cart({ r, next }: { r: View; next?: Stop }) {
  return (
    <ol className="grid grid-cols-4 gap-2 max-sm:grid-cols-3" aria-label="Slots">
      {r.slots.map((s) => {
        const puts = next?.slots.find((x) => x.slot === s.slot);
        const n = puts ? puts.quantity - puts.picked : 0;
        const done = s.state !== "picking" || s.picked >= s.quantity;
        return (
          <li
            key={s.slot}
            className={clsx("border px-2 py-1.5", n > 0 ? "border-busy border-2 bg-sheet" : "border-rule", done && "text-quiet")}
            data-testid={`slot ${s.slot}`}
          >
            <span className="flex items-baseline justify-between">
              <span className="fig text-[22px]">{s.slot}</span>
              {n > 0 ? <span className="font-semibold">+{n}</span> : <LampShape state={done ? "go" : "idle"} size={14} />}
            </span>
            <Link
              to={r.state === "picking" && !done ? `/orders/${s.order_number}` : `/pack/${s.shipment}`}
              className="code block truncate underline decoration-rule underline-offset-4"
            >
              {s.order_number}
            </Link>
            <span className="block text-[13px] text-quiet">
              {s.state === "called off" ? "called off" : s.state === "picking" ? `${s.picked} of ${s.quantity}` : s.state}
            </span>
          </li>
        );
      })}
    </ol>
  );
}

/** What is done with a round besides picking it: printed, taken apart, a slot taken off it. */
function Ending({ r, onKeep, onWrong }: { r: View; onKeep: (now: View) => void; onWrong: (e: Error) => void }) {
  const [asking, setAsking] = useState(false);
  const path = { path: { number: r.number } };
  const leave = useMutation({
    mutationFn: (slot: number) => take(api.POST("/api/v1/rounds/{number}/leave", { params: path, body: { slot } })),
    onSuccess: onKeep,
    onError: onWrong,
  });
  const apart = useMutation({
    mutationFn: () => take(api.POST("/api/v1/rounds/{number}/take-apart", { params: path })),
    onSuccess: onKeep,
    onError: onWrong,
  });
  return (
    <div className="mt-5 flex flex-wrap items-center gap-x-5 gap-y-2">
      <PrintLinks of="Print" path={`/api/v1/rounds/${r.number}/round.pdf`} />
      <Link className="flex min-h-12 items-center underline decoration-rule underline-offset-4" to="/picking">
        Other orders
      </Link>
      {r.state === "picking" && (
        <Button kind="quiet" className="min-h-12" onClick={() => setAsking(true)}>
          Change the round
        </Button>
      )}
      <Sheet open={asking} onClose={() => setAsking(false)} title={`Round ${r.number}`}>
        <p className="mb-3">An order that is taken off is picked by itself. What is picked stays picked.</p>
        <ul className="mb-4 border-t border-ink">
          {r.slots.map((s) => (
            <li key={s.slot} className="flex items-center justify-between gap-3 border-b border-rule">
              <span>
                <span className="fig">{s.slot}</span> <span className="code">{s.order_number}</span>
              </span>
              <Button kind="quiet" className="min-h-12" disabled={leave.isPending} onClick={() => leave.mutate(s.slot)}>
                Take off
              </Button>
            </li>
          ))}
        </ul>
        <Button
          large
          disabled={apart.isPending}
          onClick={() => {
            setAsking(false);
            apart.mutate();
          }}
        >
          Take the whole round apart
        </Button>
      </Sheet>
    </div>
  );
}

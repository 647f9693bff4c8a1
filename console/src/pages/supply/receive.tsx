import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, take, type Problem, type Schema } from "../../api/client";
import { Button, Loading, Tab, Trouble } from "../../parts/controls";
import { count, When } from "../../parts/format";
import { LampShape } from "../../parts/lamp";
import { ScanField, sound, Verdict, type Said } from "../../parts/scanner";

type Line = Schema<"PurchaseLine">;

/** Receiving by scan: the bin if it is not the usual one, the product, the quantity, serial numbers. */
export default function Receive() {
  const { number = "" } = useParams();
  const client = useQueryClient();
  const [bin, setBin] = useState("");
  const [qty, setQty] = useState("1");
  const [open, setOpen] = useState<{ line: Line; serials: string[] } | null>(null);
  const [over, setOver] = useState<{ code: string; n: number; serials: string[] } | null>(null);
  const [said, setSaid] = useState<Said | null>(null);
  const q = useQuery({
    queryKey: ["purchase", number],
    queryFn: () => take(api.GET("/api/v1/purchases/{number}", { params: { path: { number } } })),
  });
  const done = (p: Schema<"Purchase">) => {
    client.setQueryData(["purchase", number], p);
    for (const k of ["purchases", "stock", "item"]) void client.invalidateQueries({ queryKey: [k] });
  };
  const take1 = useMutation({
    mutationFn: (a: { code: string; n: number; serials: string[]; over?: boolean }) =>
      take(
        api.POST("/api/v1/purchases/{number}/receive", {
          params: { path: { number }, header: { "Idempotency-Key": crypto.randomUUID() } },
          body: {
            items: [
              { code: a.code, quantity: a.n, bin: bin || undefined, serials: a.serials.length ? a.serials : undefined, over: a.over },
            ],
          },
        }),
      ),
    onSuccess: (p, a) => {
      const line = find(p.lines ?? [], a.code);
      setSaid({
        good: true,
        text: `${count(a.n)} × ${line?.name ?? a.code} received${bin ? ` into ${bin}` : ""}`,
        expected: line ? `${count(line.left)} of it to come` : undefined,
      });
      setQty("1");
      setOpen(null);
      setOver(null);
      sound(true);
      done(p);
    },
    onError: (e, a) => {
      const p = e as Problem;
      setSaid({ good: false, text: p.detail, expected: p.expected });
      setOver(!a.over && p.status === 409 && /more than is to come|not on purchase order/.test(p.detail) ? a : null);
      sound(false);
    },
  });
  const close = useMutation({
    mutationFn: () => take(api.POST("/api/v1/purchases/{number}/close", { params: { path: { number } } })),
    onSuccess: done,
  });
  if (q.isPending) return <Loading />;
  if (q.error) return <Trouble error={q.error} large />;
  const p = q.data;
  const lines = p.lines ?? [];
  const scan = (text: string) => {
    setOver(null);
    if (open) {
      const serials = [...open.serials, text];
      if (open.serials.includes(text)) {
        setSaid({ good: false, text: `Serial number ${text} was scanned already` });
        sound(false);
      } else if (serials.length === Number(qty)) take1.mutate({ code: open.line.sku, n: serials.length, serials });
      else {
        setOpen({ ...open, serials });
        setSaid({ good: true, text: `${serials.length} of ${qty} serial numbers`, expected: "the next serial number" });
        sound(true);
      }
      return;
    }
    const line = find(lines, text);
    if (line?.serials) {
      setOpen({ line, serials: [] });
      setSaid({ good: true, text: line.name, expected: `${qty} serial ${qty === "1" ? "number" : "numbers"}` });
      return;
    }
    take1.mutate({ code: text, n: Number(qty) || 1, serials: [] });
  };
  const total = lines.reduce((n, l) => n + l.ordered, 0);
  return (
    <div className="mx-auto max-w-3xl text-[18px] leading-6">
      <div className="mb-3 flex flex-wrap items-baseline justify-between gap-x-4">
        <Tab name={`Receive ${p.number}`} />
        <h1 className="font-mono">{p.number}</h1>
        <span className="text-[14px] text-quiet">
          {p.supplier} · to {p.location_name}
          {p.expected ? ` · expected ${p.expected}` : ""}
        </span>
        <span className="fig" data-testid="progress">
          {count(p.received)}
          <span className="unit text-[14px]!">of {count(total)} received</span>
        </span>
      </div>
      {p.state === "open" && (
        <>
          <div className="mb-3 grid grid-cols-2 gap-2">
            <label className="flex items-center gap-2">
              <span className="text-[14px] text-quiet">Bin</span>
              <input
                className="field min-h-12 w-full min-w-0 font-mono"
                aria-label="Bin"
                placeholder="usual"
                value={bin}
                onChange={(e) => setBin(e.target.value)}
              />
            </label>
            <label className="flex items-center gap-2">
              <span className="text-[14px] text-quiet">Units</span>
              <input
                className="field fig min-h-12 w-full min-w-0"
                aria-label="Units"
                inputMode="numeric"
                value={qty}
                onChange={(e) => setQty(e.target.value.replace(/\D/g, ""))}
              />
            </label>
          </div>
          <ScanField placeholder={open ? "Scan a serial number" : "Scan the product"} busy={take1.isPending} onScan={scan} />
        </>
      )}
      <Verdict said={said} />
      {over && (
        <p className="mb-4 flex flex-wrap items-center gap-3">
          <Button large onClick={() => take1.mutate({ ...over, over: true })}>
            Receive {count(over.n)} all the same
          </Button>
        </p>
      )}
      <Trouble error={close.error} large />
      <ul className="border-t border-ink">
        {lines.map((l) => (
          <li key={l.sku} className={`flex items-center gap-4 border-b border-rule py-3 ${l.left === 0 ? "text-quiet" : ""}`}>
            <span className="w-24 shrink-0 font-mono text-[20px]">{l.bin || "–"}</span>
            <span className="min-w-0 flex-1">
              <span className="block">{l.name}</span>
              <span className="code text-quiet">
                {l.sku} {l.gtin} {l.serials && "with serial numbers"}
              </span>
            </span>
            <span className="fig text-[20px]">
              {count(l.received)}/{count(l.ordered)}
              {l.short > 0 && <span className="unit text-stop">{l.short} short</span>}
              {l.received > l.ordered && <span className="unit text-caution">{l.received - l.ordered} over</span>}
            </span>
            <LampShape state={l.left === 0 ? "go" : l.received > 0 ? "busy" : "idle"} size={16} />
          </li>
        ))}
      </ul>
      <div className="mt-5 flex flex-wrap items-center gap-4">
        {p.state === "open" ? (
          <Button large onClick={() => close.mutate()} disabled={close.isPending}>
            {p.received >= total ? "Close" : `Close with ${count(lines.reduce((n, l) => n + l.left, 0))} short`}
          </Button>
        ) : (
          <span className="text-quiet">
            Closed <When at={p.closed_at} />
          </span>
        )}
        <Link className="underline decoration-rule underline-offset-4" to="/receiving">
          Other deliveries
        </Link>
      </div>
    </div>
  );
}

function find(lines: Line[], code: string): Line | undefined {
  return lines.find((l) => l.sku.toLowerCase() === code.toLowerCase() || (l.gtin !== "" && l.gtin === code));
}

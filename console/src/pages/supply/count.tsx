import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, take, type Problem, type Schema } from "../../api/client";
import { Button, Loading, Tab, Trouble } from "../../parts/controls";
import { count, signed, When } from "../../parts/format";
import { ScanField, sound, Verdict, type Said } from "../../parts/scanner";

/** Counting by scan: each scan adds to what was counted, or a number is typed beside it. */
export default function CountPage() {
  const { number = "" } = useParams();
  const client = useQueryClient();
  const [bin, setBin] = useState("");
  const [qty, setQty] = useState("");
  const [said, setSaid] = useState<Said | null>(null);
  const q = useQuery({
    queryKey: ["count", number],
    queryFn: () => take(api.GET("/api/v1/counts/{number}", { params: { path: { number } } })),
  });
  const done = (c: Schema<"Count">) => {
    client.setQueryData(["count", number], c);
    for (const k of ["counts", "stock", "item"]) void client.invalidateQueries({ queryKey: [k] });
  };
  const note = useMutation({
    mutationFn: (code: string) =>
      take(
        api.POST("/api/v1/counts/{number}/lines", {
          params: { path: { number }, header: { "Idempotency-Key": crypto.randomUUID() } },
          body: { code, bin: bin || undefined, quantity: qty === "" ? 1 : Number(qty), add: qty === "" },
        }),
      ),
    onSuccess: (c) => {
      const l = c.lines?.[0];
      setSaid({ good: true, text: l ? `${l.name}: ${count(l.counted)}${l.bin ? ` in ${l.bin}` : ""}` : "noted" });
      setQty("");
      sound(true);
      done(c);
    },
    onError: (e) => {
      setSaid({ good: false, text: (e as Problem).detail });
      sound(false);
    },
  });
  const drop = useMutation({
    mutationFn: (l: Schema<"CountLine">) =>
      take(api.DELETE("/api/v1/counts/{number}/lines", { params: { path: { number }, query: { sku: l.sku, bin: l.bin } } })),
    onSuccess: done,
  });
  const post = useMutation({
    mutationFn: () => take(api.POST("/api/v1/counts/{number}/post", { params: { path: { number } }, body: {} })),
    onSuccess: done,
  });
  const forget = useMutation({
    mutationFn: () => take(api.POST("/api/v1/counts/{number}/drop", { params: { path: { number } } })),
    onSuccess: done,
  });
  if (q.isPending) return <Loading />;
  if (q.error) return <Trouble error={q.error} large />;
  const c = q.data;
  const lines = c.lines ?? [];
  return (
    <div className="mx-auto max-w-3xl text-[18px] leading-6">
      <div className="mb-3 flex flex-wrap items-baseline justify-between gap-x-4">
        <Tab name={`Count ${c.number}`} />
        <h1 className="font-mono">{c.number}</h1>
        <span className="text-[14px] text-quiet">
          {c.location_name} · {c.who}
        </span>
        <span className="fig">
          {count(c.counted)}
          <span className="unit text-[14px]!">counted, {count(c.differ)} differ</span>
        </span>
      </div>
      {c.state === "open" && (
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
                placeholder="one more"
                value={qty}
                onChange={(e) => setQty(e.target.value.replace(/\D/g, ""))}
              />
            </label>
          </div>
          <ScanField placeholder="Scan the product" busy={note.isPending} onScan={(code) => note.mutate(code)} />
        </>
      )}
      <Verdict said={said} />
      <Trouble error={drop.error ?? post.error ?? forget.error} large />
      {lines.length === 0 && (
        <p className="border-t border-ink py-6 text-quiet">
          Scan a product; each further scan adds one. Or type a number under Units first.
        </p>
      )}
      {lines.length > 0 && (
        <ul className="border-t border-ink">
          {lines.map((l) => (
            <li key={l.sku + " " + l.bin} className="flex items-center gap-4 border-b border-rule py-3">
              <span className="w-24 shrink-0 font-mono text-[20px]">{l.bin || "–"}</span>
              <span className="min-w-0 flex-1">
                <span className="block">{l.name}</span>
                <span className="code text-quiet">{l.sku}</span>
              </span>
              <span className="fig text-[20px]">
                {count(l.counted)}
                <span className={`unit text-[14px]! ${l.counted === l.expected ? "" : "text-caution!"}`}>
                  {l.counted === l.expected ? "as it should" : `${signed(l.counted - l.expected)}, should be ${count(l.expected)}`}
                </span>
              </span>
              {c.state === "open" && (
                <Button kind="quiet" className="text-[14px]" onClick={() => drop.mutate(l)} aria-label={`Take ${l.sku} away`}>
                  Undo
                </Button>
              )}
            </li>
          ))}
        </ul>
      )}
      <div className="mt-5 flex flex-wrap items-center gap-4">
        {c.state === "open" ? (
          <>
            <Button kind="main" large disabled={lines.length === 0 || post.isPending} onClick={() => post.mutate()}>
              {c.differ === 0 ? "Post: nothing changes" : `Post ${count(c.differ)} ${c.differ === 1 ? "difference" : "differences"}`}
            </Button>
            <Button kind="quiet" onClick={() => forget.mutate()}>
              Drop this count
            </Button>
          </>
        ) : (
          <span className="text-quiet">
            {c.state} <When at={c.posted_at} />
          </span>
        )}
        <Link className="underline decoration-rule underline-offset-4" to="/counts">
          Other counts
        </Link>
      </div>
    </div>
  );
}

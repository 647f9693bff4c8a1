import { shipmentQuery } from "../../api/queries";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, Problem, take, type Schema } from "../../api/client";
import { Button, Loading, Sheet, Tab, Trouble } from "../../parts/controls";
import { commandOf } from "../../parts/commands";
import { PrintLinks } from "../../parts/printlinks";
import { ScanField, sound, Verdict, type Said } from "../../parts/scanner";
import { NotThere } from "./notthere";
import { Companions } from "../../shared/together/companions";
import { WantRow } from "./wantrow";

type Want = Schema<"ShipmentView">["wants"][number];

export default function Pick() {
  const { number = "" } = useParams();
  const client = useQueryClient();
  const navigate = useNavigate();
  const [bin, setBin] = useState("");
  const [last, setLast] = useState(""); // SKU of what was scanned last
  const [said, setSaid] = useState<Said | null>(null);
  const q = useQuery(shipmentQuery(number));
  const scan = useMutation({
    mutationFn: (c: string) => take(api.POST("/api/v1/shipments/{number}/scan", { params: { path: { number } }, body: { code: c, bin } })),
    onSuccess: ({ outcome, expected, wants }) => {
      if (outcome.kind === "product") setLast(outcome.sku ?? "");
      if (outcome.kind === "bin") setBin(outcome.bin ?? "");
      else if (!wants.some((w) => w.bin === bin && w.picked < w.quantity)) setBin("");
      setSaid({ good: true, text: outcome.text, expected });
      sound(true);
      void client.invalidateQueries({ queryKey: ["shipment", number] });
    },
    onError: (e) => {
      const p = e as Problem;
      setSaid({ good: false, text: p.detail.split(". Expected")[0] ?? p.detail, expected: p.expected });
      sound(false);
    },
  });
  const back = useMutation({
    mutationFn: (code: string) => take(api.POST("/api/v1/shipments/{number}/take-back", { params: { path: { number } }, body: { code } })),
    onSuccess: (now, code) => {
      client.setQueryData(shipmentQuery(number).queryKey, now);
      const w = now.wants.find((x) => x.sku === code);
      setLast("");
      setSaid({ good: true, text: `One ${code} put back${w?.bin ? ` into bin ${w.bin}` : ""}`, expected: now.expected });
      sound(true);
    },
    onError: (e) => {
      setSaid({ good: false, text: (e as Problem).detail });
      sound(false);
    },
  });
  const [short, setShort] = useState<Want | null>(null);
  const left = q.data?.wants.reduce((n, w) => n + w.quantity - w.picked, 0) ?? 1;
  if (q.isPending) return <Loading />;
  if (q.error) return <Trouble error={q.error} large />;
  const s = q.data;
  const next = s.wants.find((w) => w.picked < w.quantity);
  const total = s.wants.reduce((n, w) => n + w.quantity, 0);
  const picking = s.state === "picking";
  const wrong = (text: string) => {
    setSaid({ good: false, text });
    sound(false);
  };
  const scanned = (code: string) => {
    switch (commandOf(code)) {
      case "back":
        return last ? back.mutate(last) : wrong("Nothing was scanned here that could be taken back");
      case "done":
        return left === 0 ? void navigate(`/pack/${s.number}`) : wrong(`${left} units are still to be picked`);
      case "next":
        return wrong("A carton is filled at the bench; all is to be picked first");
      default:
        return scan.mutate(code);
    }
  };
  return (
    <div className="mx-auto max-w-3xl text-[18px] leading-6">
      <div className="mb-3 flex flex-wrap items-baseline justify-between gap-x-4">
        <Tab name={`Pick ${s.order_number}`} />
        <h1 className="font-mono">{s.order_number}</h1>
        <span className="text-[14px] text-quiet">
          {s.number} · {s.location}
          {s.pickers ? ` · ${s.pickers}` : ""}
        </span>
        <span className="fig" data-testid="progress">
          {total - left}
          <span className="unit text-[14px]!">of {total} picked</span>
        </span>
      </div>
      <div className="mb-4 h-1.5 bg-rule" aria-hidden="true">
        <div className="h-full bg-go" style={{ width: `${total ? ((total - left) / total) * 100 : 0}%` }} />
      </div>
      {s.note && <p className="mb-3 border-l-4 border-busy bg-sheet px-3 py-2 text-[16px]">Note: {s.note}</p>}
      {picking && (
        <ScanField
          placeholder={next ? (bin ? "Scan the product" : "Scan bin or product") : "All is picked"}
          busy={scan.isPending}
          onScan={scanned}
        />
      )}
      <Verdict said={said} />
      {!said && next && (
        <div className="border-l-8 border-busy bg-sheet px-4 py-3">
          <div className="font-semibold">
            Bin <span className="font-mono">{next.bin || "none"}</span>: take {next.quantity - next.picked}
          </div>
          <div className="text-[16px]">{next.title}</div>
        </div>
      )}
      <ul className="border-t border-ink">
        {s.wants.map((w) => (
          <WantRow
            key={`${w.line_id} ${w.item_id}`}
            want={w}
            next={w === next}
            work={picking}
            back={w.picked > w.packed}
            busy={back.isPending}
            about={w.kit_sku && <span className="code block text-quiet">part of {w.kit_sku}</span>}
            onShort={() => setShort(w)}
            onBack={() => back.mutate(w.sku)}
          />
        ))}
      </ul>
      {picking && (
        <div className="mt-5">
          <Companions order={s.order_number} large />
        </div>
      )}
      <Sheet open={short !== null} onClose={() => setShort(null)} title={short ? `${short.sku} is not there` : ""}>
        {short && (
          <NotThere
            want={short}
            report={(body, key) =>
              take(
                api.POST("/api/v1/shipments/{number}/short", {
                  params: { path: { number: s.number }, header: { "Idempotency-Key": `${s.number} ${key}` } },
                  body,
                }),
              )
            }
            onDone={(text) => {
              setShort(null);
              setBin("");
              setSaid({ good: true, text });
              sound(true);
              void client.invalidateQueries({ queryKey: ["shipment", number] });
            }}
          />
        )}
      </Sheet>
      <div className="mt-5 flex flex-wrap items-center gap-3">
        {left === 0 && picking && (
          <Button kind="main" large onClick={() => void navigate(`/pack/${s.number}`)}>
            Pack
          </Button>
        )}
        {!picking && (
          <Button kind="main" large onClick={() => void navigate(`/pack/${s.number}`)}>
            To its parcels
          </Button>
        )}
        <PrintLinks of="Print" path={`/api/v1/orders/${s.order_number}/pick-list.pdf`} />
        <Link className="flex min-h-12 items-center underline decoration-rule underline-offset-4" to="/picking">
          Other orders
        </Link>
      </div>
    </div>
  );
}

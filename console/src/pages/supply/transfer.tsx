import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, take, type Problem, type Schema } from "../../api/client";
import { Button, Loading, Sheet, Tab, Trouble } from "../../parts/controls";
import { count, When } from "../../parts/format";
import { Lamp, LampShape } from "../../parts/lamp";
import { ScanField, sound, Verdict, type Said } from "../../parts/scanner";

/** A transfer: it leaves, it arrives scan by scan or at once, and what never came is given up. */
export default function TransferPage() {
  const { number = "" } = useParams();
  const client = useQueryClient();
  const [said, setSaid] = useState<Said | null>(null);
  const [losing, setLosing] = useState(false);
  const [reason, setReason] = useState("");
  const q = useQuery({
    queryKey: ["transfer", number],
    queryFn: () => take(api.GET("/api/v1/transfers/{number}", { params: { path: { number } } })),
  });
  const done = (x: Schema<"Transfer">) => {
    client.setQueryData(["transfer", number], x);
    for (const k of ["transfers", "stock", "item"]) void client.invalidateQueries({ queryKey: [k] });
  };
  const move = useMutation({
    mutationFn: (m: { what: "send" | "arrive" | "lose" | "drop"; code?: string }) => {
      const p = { params: { path: { number }, header: { "Idempotency-Key": crypto.randomUUID() } } };
      if (m.what === "send") return take(api.POST("/api/v1/transfers/{number}/send", { ...p, body: {} }));
      if (m.what === "drop") return take(api.POST("/api/v1/transfers/{number}/drop", { ...p, body: {} }));
      if (m.what === "lose") return take(api.POST("/api/v1/transfers/{number}/lose", { ...p, body: { reason } }));
      return take(
        api.POST("/api/v1/transfers/{number}/arrive", { ...p, body: { items: m.code ? [{ code: m.code, quantity: 1 }] : undefined } }),
      );
    },
    onSuccess: (x, m) => {
      if (m.code) {
        setSaid({ good: true, text: `${m.code} has arrived` });
        sound(true);
      }
      setLosing(false);
      done(x);
    },
    onError: (e, m) => {
      if (!m.code) return;
      setSaid({ good: false, text: (e as Problem).detail });
      sound(false);
    },
  });
  if (q.isPending) return <Loading />;
  if (q.error) return <Trouble error={q.error} large />;
  const x = q.data;
  const left = (x.lines ?? []).reduce((n, l) => n + l.left, 0);
  return (
    <div className="mx-auto max-w-3xl text-[18px] leading-6">
      <div className="mb-3 flex flex-wrap items-baseline justify-between gap-x-4">
        <Tab name={`Transfer ${x.number}`} />
        <h1 className="font-mono">{x.number}</h1>
        <span className="text-[16px]">
          {x.from_name} → {x.to_name}
        </span>
        <Lamp state={x.state === "under way" ? "busy" : x.lost ? "caution" : "idle"}>{x.state}</Lamp>
      </div>
      {x.state === "under way" && (
        <ScanField placeholder="Scan what arrives" busy={move.isPending} onScan={(code) => move.mutate({ what: "arrive", code })} />
      )}
      <Verdict said={said} />
      {!said && <Trouble error={move.error} large />}
      <ul className="border-t border-ink">
        {x.lines?.map((l) => (
          <li key={l.sku} className="flex items-center gap-4 border-b border-rule py-3">
            <span className="min-w-0 flex-1">
              <span className="block">{l.name}</span>
              <span className="code text-quiet">{l.sku}</span>
            </span>
            <span className="fig text-[20px]">
              {count(l.arrived)}/{count(l.quantity)}
              {l.lost > 0 && <span className="unit text-stop">{l.lost} lost</span>}
            </span>
            <LampShape state={l.left === 0 ? (l.lost ? "caution" : "go") : l.arrived ? "busy" : "idle"} size={16} />
          </li>
        ))}
      </ul>
      <div className="mt-5 flex flex-wrap items-center gap-4">
        {x.state === "draft" && (
          <>
            <Button kind="main" large disabled={move.isPending} onClick={() => move.mutate({ what: "send" })}>
              It leaves {x.from_name}
            </Button>
            <Button kind="quiet" onClick={() => move.mutate({ what: "drop" })}>
              Drop
            </Button>
          </>
        )}
        {x.state === "under way" && (
          <>
            <Button kind="main" large disabled={move.isPending} onClick={() => move.mutate({ what: "arrive" })}>
              All {count(left)} arrived
            </Button>
            <Button kind="quiet" onClick={() => setLosing(true)}>
              The rest is lost
            </Button>
          </>
        )}
        {x.state === "closed" && (
          <span className="text-quiet">
            Closed <When at={x.closed_at} />
          </span>
        )}
        <Link className="underline decoration-rule underline-offset-4" to="/transfers">
          Other transfers
        </Link>
      </div>
      <Sheet open={losing} onClose={() => setLosing(false)} title={`Give up ${left} units of ${x.number}?`}>
        <form
          onSubmit={(e) => {
            e.preventDefault();
            move.mutate({ what: "lose" });
          }}
          className="flex flex-col gap-3"
        >
          <p>
            They are neither at {x.from_name} nor at {x.to_name} any more. The ledger keeps why.
          </p>
          <input
            className="field"
            required
            autoFocus
            placeholder="What became of them"
            aria-label="What became of them"
            value={reason}
            onChange={(e) => setReason(e.target.value)}
          />
          <Trouble error={move.error} />
          <Button kind="main" type="submit">
            Give up
          </Button>
        </form>
      </Sheet>
    </div>
  );
}

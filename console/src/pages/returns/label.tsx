import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, take, type Schema } from "../../api/client";
import { profilesQuery } from "../../api/queries";
import { Button, Trouble } from "../../parts/controls";
import { dayText, Kg, Money } from "../../parts/format";

type View = Schema<"ReturnView">;
type Rate = Schema<"RelayRate">;

/** The label by which the buyer sends goods back: bought here, given to the buyer, followed until it is here. */
export function ReturnLabel({ r, open }: { r: View; open: boolean }) {
  const [choosing, setChoosing] = useState(false);
  const client = useQueryClient();
  const took = (now: View) => {
    client.setQueryData(["return", r.number], now);
    setChoosing(false);
  };
  const params = { path: { number: r.number } };
  const voids = useMutation({ mutationFn: () => take(api.POST("/api/v1/returns/{number}/label/void", { params })), onSuccess: took });
  const l = r.label;
  const stands = l && l.state !== "refused" && l.state !== "voided";
  if (!l && !open) return null;
  return (
    <section aria-label="Label for the buyer">
      <h2 className="mb-1">Label for the buyer</h2>
      {!l && r.tracking && (
        <p className="text-quiet">
          It comes as <span className="code">{r.tracking}</span> already; no label is needed.
        </p>
      )}
      {!l && !r.tracking && <p className="text-quiet">None was bought here. With one the buyer sends the goods back at our cost.</p>}
      {l && (
        <p>
          {l.carrier} {l.service}, {l.state}
          {l.tracking && stands && (
            <>
              , <span className="code">{l.tracking}</span>
            </>
          )}
          {l.price > 0 && (
            <>
              , <Money minor={l.price} currency={l.currency ?? ""} />
            </>
          )}
          {l.weight_g > 0 && (
            <span className="text-quiet">
              {" "}
              for <Kg grams={l.weight_g} />
            </span>
          )}
          {l.journey && <span className="block">{l.journey}</span>}
          {l.error && <span className="block text-stop">{l.error}</span>}
        </p>
      )}
      <p className="mt-2 flex flex-wrap gap-3">
        {stands && l.state === "bought" && (
          <>
            <a className="underline decoration-rule underline-offset-4 hover:decoration-ink" href={`/api/v1/returns/${r.number}/label.pdf`}>
              Label as PDF
            </a>
            <a
              className="underline decoration-rule underline-offset-4 hover:decoration-ink"
              href={`/api/v1/returns/${r.number}/label.pdf?size=a4`}
            >
              On A4
            </a>
            {!l.journey && (
              <Button kind="quiet" disabled={voids.isPending} onClick={() => voids.mutate()}>
                Void it
              </Button>
            )}
          </>
        )}
        {!stands && open && !choosing && !r.tracking && (
          <Button onClick={() => setChoosing(true)}>{l ? "Buy another" : "Buy a label"}</Button>
        )}
        {choosing && <Button onClick={() => setChoosing(false)}>Leave it</Button>}
      </p>
      <Trouble error={voids.error} />
      {choosing && <Choose r={r} onBought={took} />}
    </section>
  );
}

/** In which carton it comes, and by which service. */
function Choose({ r, onBought }: { r: View; onBought: (now: View) => void }) {
  const unknown = r.lines.every((x) => !x.announced);
  const [profile, setProfile] = useState("");
  const [kg, setKg] = useState("");
  const profiles = useQuery(profilesQuery);
  const weight = Math.round(Number(kg.replace(",", ".") || 0) * 1000);
  const box = { profile: profile || undefined, weight_g: weight || undefined };
  const rates = useQuery({
    queryKey: ["return-rates", r.number, profile, weight],
    enabled: !unknown || weight > 0,
    queryFn: () => take(api.GET("/api/v1/returns/{number}/rates", { params: { path: { number: r.number }, query: box } })),
  });
  const buy = useMutation({
    mutationFn: (x: Rate) =>
      take(
        api.POST("/api/v1/returns/{number}/label", {
          params: { path: { number: r.number }, header: { "Idempotency-Key": crypto.randomUUID() } },
          body: { carrier: x.carrier, service: x.service, expected: x.estimated ? undefined : x.price, ...box },
        }),
      ),
    onSuccess: onBought,
  });
  return (
    <div className="mt-2">
      <div className="flex flex-wrap gap-3">
        <label className="flex flex-col gap-1">
          <span className="text-quiet">Carton</span>
          <select className="field" value={profile} onChange={(e) => setProfile(e.target.value)}>
            <option value="">as it was sent</option>
            {profiles.data?.map((p) => (
              <option key={p.code} value={p.code}>
                {p.name}
              </option>
            ))}
          </select>
        </label>
        <label className="flex flex-col gap-1">
          <span className="text-quiet">Weight, kg</span>
          <input
            className="field w-28"
            inputMode="decimal"
            placeholder={unknown ? "needed" : "by sum"}
            value={kg}
            onChange={(e) => setKg(e.target.value)}
          />
        </label>
      </div>
      <Trouble error={rates.error ?? buy.error} />
      {rates.isFetching && <p className="mt-2 text-quiet">Asking the carriers …</p>}
      {rates.data?.length === 0 && <p className="mt-2 text-quiet">No joined carrier brings goods back, or that is switched off.</p>}
      <ul className="mt-2">
        {rates.data?.map((x) => (
          <li key={x.carrier + x.service} className="flex items-center justify-between gap-3 border-b border-rule py-1">
            <span className={x.refused ? "text-quiet" : ""}>
              {x.service_name || x.carrier_name}
              <span className="block text-[12px] text-quiet">
                {x.refused ? `not carried: ${x.refused}` : x.arrives ? `here ${dayText(x.arrives)}` : x.carrier_name}
              </span>
            </span>
            {!x.refused && (
              <span className="flex items-center gap-3">
                <Money minor={x.price} currency={x.currency} />
                <Button disabled={buy.isPending} aria-label={`Buy ${x.service_name || x.service}`} onClick={() => buy.mutate(x)}>
                  Buy
                </Button>
              </span>
            )}
          </li>
        ))}
      </ul>
    </div>
  );
}

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, take, type Schema } from "../../api/client";
import { roundRulesQuery } from "../../api/queries";
import { Button, Trouble } from "../../parts/controls";
import { Lamp } from "../../parts/lamp";

type Made = Schema<"RoundView">;
type Wanted = { orders?: string[]; rule?: string };

/** Makes a round of orders, or by a rule, and goes to it; what could not go into it is told first. */
export function useMakeRound() {
  const client = useQueryClient();
  const navigate = useNavigate();
  const [left, setLeft] = useState<Made | null>(null);
  const make = useMutation({
    mutationFn: (body: Wanted) =>
      take(api.POST("/api/v1/rounds", { params: { header: { "Idempotency-Key": crypto.randomUUID() } }, body })),
    onSuccess: (made) => {
      void client.invalidateQueries({ queryKey: ["rounds"] });
      void client.invalidateQueries({ queryKey: ["picking"] });
      if (made.left?.length) setLeft(made);
      else void navigate(`/rounds/${made.number}`);
    },
  });
  return { make, left };
}

/** Rounds that are picked now, and the rules by which the next is made. */
export function Rounds() {
  const rounds = useQuery({
    queryKey: ["rounds"],
    queryFn: () => take(api.GET("/api/v1/rounds", { params: { query: { state: "picking", limit: 50 } } })),
  });
  const rules = useQuery(roundRulesQuery);
  const { make, left } = useMakeRound();
  if (!rounds.data?.length && !rules.data?.length) return null;
  return (
    <section aria-label="Rounds" className="mb-5">
      <div className="mb-2 flex flex-wrap items-center gap-3">
        <h2>Rounds</h2>
        {rules.data?.map((r) => (
          <Button key={r.code} large disabled={make.isPending} onClick={() => make.mutate({ rule: r.code })}>
            Next: {r.name}
          </Button>
        ))}
      </div>
      <Trouble error={make.error ?? rounds.error} />
      {left && <LeftOut made={left} />}
      <ul className="flex flex-wrap gap-2">
        {rounds.data?.map((r) => (
          <li key={r.number}>
            <Link to={`/rounds/${r.number}`} className="block min-w-44 border border-rule bg-sheet px-3 py-2 hover:border-ink">
              <span className="flex items-baseline justify-between gap-4">
                <span className="font-mono font-medium">{r.number}</span>
                <span className="fig">
                  {r.picked}/{r.quantity}
                </span>
              </span>
              <span className="my-1 block h-1 bg-rule" aria-hidden="true">
                <span className="block h-full bg-go" style={{ width: `${r.quantity ? (r.picked / r.quantity) * 100 : 0}%` }} />
              </span>
              <Lamp state={r.holder ? "busy" : "idle"}>{r.holder || "nobody picks it yet"}</Lamp>
              <span className="block text-[12px] text-quiet">
                {r.slots.length} slots, {r.location}
              </span>
            </Link>
          </li>
        ))}
      </ul>
    </section>
  );
}

/** What could not go into a round that was made, and why. */
export function LeftOut({ made }: { made: Made }) {
  return (
    <div role="status" className="mb-3 border-l-4 border-caution bg-sheet px-3 py-2">
      <p>
        Round{" "}
        <Link to={`/rounds/${made.number}`} className="code underline decoration-rule underline-offset-4">
          {made.number}
        </Link>{" "}
        has {made.slots.length} of them. Not in it:
      </p>
      <ul>
        {made.left?.map((l) => (
          <li key={l.order}>
            <span className="code">{l.order}</span>: {l.why}
          </li>
        ))}
      </ul>
    </div>
  );
}

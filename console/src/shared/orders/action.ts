import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, take, type Schema } from "../../api/client";

/** An action on many orders, with what became of each. */
export type Done = Schema<"RelayBulkDone">;

/**
 * Follows an action on many orders. What takes longer than a moment goes on by itself; until it has ended, it is asked how
 * it stands. onEnd is told once, when all orders have their outcome.
 */
export function useAction(onEnd?: (done: Done) => void) {
  const client = useQueryClient();
  const [result, setResult] = useState<Done | null>(null);
  const follow = (d: Done) => {
    setResult(d);
    for (const key of ["orders", "board", "tags"]) void client.invalidateQueries({ queryKey: [key] });
    if (d.state === "done") onEnd?.(d);
  };
  const under = useQuery({
    queryKey: ["action", result?.id],
    queryFn: async () => {
      const d = await take(api.GET("/api/v1/orders/actions/{id}", { params: { path: { id: result?.id ?? 0 } } }));
      if (d.state === "done") follow(d);
      else setResult(d);
      return d;
    },
    enabled: result !== null && result.state !== "done",
    refetchInterval: 700,
  });
  return { result, follow, forget: () => setResult(null), error: under.error };
}

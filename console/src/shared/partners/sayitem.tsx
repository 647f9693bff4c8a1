import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, take } from "../../api/client";
import { Button, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";

/** Says what a partner calls an item, or that it is never asked for it. What waits for that goes on by itself. */
export function SayItem({ partner, sku, onDone }: { partner: string; sku?: string; onDone?: () => void }) {
  const client = useQueryClient();
  const [typed, setTyped] = useState(sku ?? "");
  const [code, setCode] = useState("");
  const put = useMutation({
    mutationFn: (ignored: boolean) =>
      take(
        api.PUT("/api/v1/partners/{code}/items", {
          params: { path: { code: partner } },
          body: { sku: typed.trim(), code: ignored ? "" : code.trim(), ignored },
        }),
      ),
    onSuccess: () => {
      for (const key of ["partner items", "requests", "request", "exceptions", "causes"])
        void client.invalidateQueries({ queryKey: [key] });
      setCode("");
      if (!sku) setTyped("");
      onDone?.();
    },
  });
  return (
    <form
      aria-label="What it calls an item"
      className="flex flex-wrap items-end gap-3"
      onSubmit={(e) => {
        e.preventDefault();
        put.mutate(false);
      }}
    >
      {!sku && (
        <Labelled label="Our SKU">
          <input className="field code w-44" required value={typed} onChange={(e) => setTyped(e.target.value)} />
        </Labelled>
      )}
      <Labelled label="They call it">
        <input className="field code w-44" placeholder={typed || "as here"} value={code} onChange={(e) => setCode(e.target.value)} />
      </Labelled>
      <Button kind="main" type="submit" disabled={put.isPending || !typed.trim()}>
        Keep
      </Button>
      <Button kind="quiet" disabled={put.isPending || !typed.trim()} onClick={() => put.mutate(true)}>
        Never ask for it
      </Button>
      <Trouble error={put.error} />
    </form>
  );
}

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, take, type Schema } from "../../api/client";
import { may, meQuery } from "../../api/queries";
import { Button, Trouble } from "../../parts/controls";
import { When } from "../../parts/format";

type SettingChange = Schema<"SettingChange">;

/** What of these kinds was changed last, and by whom; it can be undone, and that too. */
export function LastChange({ kinds }: { kinds: string[] }) {
  const client = useQueryClient();
  const me = useQuery(meQuery);
  const key = ["setting-changes", ...kinds];
  const q = useQuery({
    queryKey: key,
    queryFn: () => take(api.GET("/api/v1/setting-changes", { params: { query: { kinds, limit: 1 } } })),
    enabled: may(me.data, "setup"),
  });
  const undo = useMutation({
    mutationFn: (id: number) => take(api.POST("/api/v1/setting-changes/{id}/undo", { params: { path: { id } } })),
    onSuccess: () => client.invalidateQueries(),
  });
  const last = q.data?.[0];
  if (!last) return null;
  return (
    <div className="mb-4">
      <p role="status" className="flex flex-wrap items-baseline gap-x-3 text-[12px] text-quiet">
        <span>
          {wordsOf(last)} by {last.who}, <When at={last.at} />
        </span>
        {last.undoable && (
          <Button kind="quiet" className="text-[12px]" disabled={undo.isPending} onClick={() => undo.mutate(last.id)}>
            {last.undoes ? "Change it again" : "Undo"}
          </Button>
        )}
      </p>
      <Trouble error={undo.error ?? q.error} />
    </div>
  );
}

/** A change in words: “Sender skep changed”. */
export function wordsOf(c: SettingChange): string {
  const thing = c.kind.charAt(0).toUpperCase() + c.kind.slice(1) + (c.name ? ` ${c.name}` : "");
  if (c.undoes) return `${thing} put back`;
  return `${thing} ${c.made ? "added" : "changed"}`;
}

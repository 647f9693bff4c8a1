import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, take, type Schema } from "../../api/client";
import { Button, Loading, Trouble } from "../../parts/controls";
import { SessionList } from "../../shared/people/sessions";

/** Where somebody is signed in, and what helps them when they lost something. */
export function SessionsOf({ user, onDone }: { user: Schema<"User">; onDone: (list: Schema<"User">[]) => void }) {
  const client = useQueryClient();
  const key = ["sessions", user.id];
  const q = useQuery({
    queryKey: key,
    queryFn: () => take(api.GET("/api/v1/people/{id}/sessions", { params: { path: { id: user.id } } })),
  });
  const end = useMutation({
    mutationFn: (session: number) =>
      take(api.DELETE("/api/v1/people/{id}/sessions/{session}", { params: { path: { id: user.id, session } } })),
    onSuccess: (list) => client.setQueryData(key, list),
  });
  const endAll = useMutation({
    mutationFn: () => take(api.POST("/api/v1/people/{id}/end-sessions", { params: { path: { id: user.id } } })),
    onSuccess: (list) => {
      client.setQueryData(key, []);
      onDone(list);
    },
  });
  const reset = useMutation({
    mutationFn: () => take(api.POST("/api/v1/people/{id}/reset-second-factor", { params: { path: { id: user.id } } })),
    onSuccess: onDone,
  });
  return (
    <>
      <Trouble error={q.error ?? end.error ?? endAll.error ?? reset.error} />
      {q.isPending && <Loading />}
      {q.data?.length === 0 && <p className="text-quiet">{user.name} is signed in nowhere.</p>}
      {q.data && q.data.length > 0 && <SessionList list={q.data} onEnd={(id) => end.mutate(id)} />}
      <div className="mt-4 flex flex-wrap gap-4 border-t border-rule pt-3">
        {!!q.data?.length && (
          <Button onClick={() => endAll.mutate()} disabled={endAll.isPending}>
            End all of them
          </Button>
        )}
        {user.factor_at && (
          <Button kind="quiet" onClick={() => reset.mutate()} disabled={reset.isPending}>
            Take the second factor away
          </Button>
        )}
      </div>
      {user.factor_at && (
        <p className="mt-2 text-quiet">
          For who lost the phone and the recovery codes: the password alone lets them in until they set up another.
        </p>
      )}
    </>
  );
}

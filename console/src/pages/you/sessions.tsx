import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, take } from "../../api/client";
import { Loading, Trouble } from "../../parts/controls";
import { SessionList } from "../../shared/people/sessions";

/** Where one is signed in oneself. */
export function OwnSessions() {
  const client = useQueryClient();
  const key = ["own sessions"];
  const q = useQuery({ queryKey: key, queryFn: () => take(api.GET("/api/v1/me/sessions")) });
  const end = useMutation({
    mutationFn: (session: number) => take(api.DELETE("/api/v1/me/sessions/{session}", { params: { path: { session } } })),
    onSuccess: (list) => client.setQueryData(key, list),
  });
  return (
    <section aria-label="Your sessions">
      <h2>Your sessions</h2>
      <Trouble error={q.error ?? end.error} />
      {q.isPending && <Loading />}
      {q.data && <SessionList list={q.data} onEnd={(id) => end.mutate(id)} />}
    </section>
  );
}

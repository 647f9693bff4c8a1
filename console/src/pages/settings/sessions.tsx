import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, take, type Schema } from "../../api/client";
import { Button, Loading, Trouble } from "../../parts/controls";
import { When } from "../../parts/format";
import { Lamp } from "../../parts/lamp";

type UserSession = Schema<"UserSession">;

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
      {q.data && <List list={q.data} onEnd={(id) => end.mutate(id)} />}
    </section>
  );
}

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
      {q.data && q.data.length > 0 && <List list={q.data} onEnd={(id) => end.mutate(id)} />}
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

function List({ list, onEnd }: { list: UserSession[]; onEnd: (id: number) => void }) {
  return (
    <table className="ledger">
      <thead>
        <tr>
          <th>Browser</th>
          <th>From</th>
          <th>Began</th>
          <th>Used last</th>
          <th />
        </tr>
      </thead>
      <tbody>
        {list.map((s) => (
          <tr key={s.id}>
            <td>
              {s.here && <Lamp state="go">this one</Lamp>} <span title={s.agent}>{browserOf(s.agent)}</span>
            </td>
            <td className="code">{s.source}</td>
            <td>
              <When at={s.began_at} />
            </td>
            <td>
              <When at={s.used_at} />
            </td>
            <td className="r">
              {!s.here && (
                <Button kind="quiet" aria-label={`End the session from ${s.source}`} onClick={() => onEnd(s.id)}>
                  End
                </Button>
              )}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** What a browser says of itself, in a few words: the device, and the last of its names. */
export function browserOf(agent: string): string {
  const device = agent.match(/\(([^;)]*)/)?.[1] ?? "";
  const names = [...agent.matchAll(/([A-Z][A-Za-z]+)\/\d/g)].map((m) => m[1]);
  return [names.at(-1) ?? agent.slice(0, 40), device].filter(Boolean).join(", ") || "unknown";
}

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, take } from "../../api/client";
import { knowsPasskeys, makePasskey } from "../../api/passkeys";
import { Button, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import { When } from "../../parts/format";
import { Lamp } from "../../parts/lamp";

const key = ["passkeys"];

/** One's passkeys: keys of devices by which one signs in without a password. */
export function Passkeys({ onCodes }: { onCodes: (codes: string[]) => void }) {
  const client = useQueryClient();
  const q = useQuery({ queryKey: key, queryFn: () => take(api.GET("/api/v1/me/passkeys")) });
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const changed = () => {
    for (const k of [key, ["second factor"], ["me"], ["people"]]) void client.invalidateQueries({ queryKey: k });
  };
  const add = useMutation({
    mutationFn: async () => {
      const asked = await take(api.POST("/api/v1/me/passkeys/options"));
      const answer = await makePasskey(asked.options);
      return take(api.POST("/api/v1/me/passkeys", { body: { state: asked.state, name, answer } }));
    },
    onSuccess: (told) => {
      setName("");
      changed();
      if (told.codes?.length) onCodes(told.codes);
    },
  });
  const remove = useMutation({
    mutationFn: (id: number) => take(api.POST("/api/v1/me/passkeys/{id}/remove", { params: { path: { id } }, body: { password } })),
    onSuccess: (list) => {
      client.setQueryData(key, list);
      setPassword("");
      changed();
    },
  });
  const list = q.data ?? [];
  return (
    <section aria-label="Your passkeys">
      <h2>Your passkeys</h2>
      <p className="mb-2 max-w-prose text-quiet">
        A key that stays in a device of yours: it signs you in once you unlock it, without a password and without a code. Nobody can learn
        it, and it is good for this address only.
      </p>
      <Trouble error={q.error ?? add.error ?? remove.error} />
      {list.length > 0 && (
        <table className="ledger mb-3">
          <thead>
            <tr>
              <th>Device</th>
              <th>Good at</th>
              <th>Added</th>
              <th>Used last</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {list.map((p) => (
              <tr key={p.id}>
                <td className="font-medium">{p.name}</td>
                <td className="code">{p.host}</td>
                <td>
                  <When at={p.added_at} />
                </td>
                <td>{p.used_at ? <When at={p.used_at} /> : <span className="text-quiet">not yet</span>}</td>
                <td className="r">
                  <Button
                    kind="quiet"
                    aria-label={`Remove ${p.name}`}
                    disabled={!password || remove.isPending}
                    onClick={() => remove.mutate(p.id)}
                  >
                    Remove
                  </Button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {!knowsPasskeys() ? (
        <Lamp state="idle">this browser knows no passkeys, or the page was not opened over TLS</Lamp>
      ) : (
        <form
          className="flex flex-wrap items-end gap-4"
          onSubmit={(e) => {
            e.preventDefault();
            add.mutate();
          }}
        >
          <Labelled label="Which device is it">
            <input
              className="field w-52"
              required
              maxLength={60}
              placeholder="Such as Edda's phone"
              value={name}
              onChange={(e) => setName(e.target.value)}
            />
          </Labelled>
          <Button type="submit" disabled={!name.trim() || add.isPending}>
            Add a passkey
          </Button>
          {list.length > 0 && (
            <Labelled label="Your password, to remove one">
              <input
                className="field w-52"
                type="password"
                autoComplete="current-password"
                value={password}
                onChange={(e) => setPassword(e.target.value)}
              />
            </Labelled>
          )}
        </form>
      )}
    </section>
  );
}

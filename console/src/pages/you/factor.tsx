import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { api, take, type Schema } from "../../api/client";
import { Button, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import { count, When } from "../../parts/format";
import { Lamp } from "../../parts/lamp";
import { Passkeys } from "./passkeys";

const factorKey = ["second factor"];

/** One's second factor: set up, looked at, given up. */
export function SecondFactor() {
  const client = useQueryClient();
  const q = useQuery({ queryKey: factorKey, queryFn: () => take(api.GET("/api/v1/me/second-factor")) });
  const [codes, setCodes] = useState<string[] | null>(null);
  const [password, setPassword] = useState("");
  const changed = () => {
    setPassword("");
    for (const key of [factorKey, ["me"], ["people"]]) void client.invalidateQueries({ queryKey: key });
  };
  const propose = useMutation({ mutationFn: () => take(api.POST("/api/v1/me/second-factor")) });
  const drop = useMutation({
    mutationFn: () => take(api.POST("/api/v1/me/second-factor/drop", { body: { password } })),
    onSuccess: changed,
  });
  const renew = useMutation({
    mutationFn: () => take(api.POST("/api/v1/me/recovery-codes", { body: { password } })),
    onSuccess: (told) => {
      setCodes(told.codes);
      changed();
    },
  });
  if (codes) return <Codes codes={codes} onSeen={() => (setCodes(null), changed())} />;
  return (
    <div className="flex flex-col gap-9">
      <section aria-label="Your second factor">
        <h2>Your second factor</h2>
        <p className="mb-2 max-w-prose text-quiet">
          A code that an authenticator on your phone shows, asked for beside the password. Who learns the password alone is kept out.
        </p>
        <Trouble error={q.error ?? propose.error ?? drop.error ?? renew.error} />
        {q.data && !q.data.on && !propose.data && (
          <div className="flex items-center gap-4">
            <Lamp state={q.data.demanded ? "caution" : "idle"}>{q.data.demanded ? "demanded, and not set up" : "not set up"}</Lamp>
            <Button onClick={() => propose.mutate()} disabled={propose.isPending}>
              Set it up
            </Button>
          </div>
        )}
        {q.data && !q.data.on && propose.data && <Confirm proposal={propose.data} onDone={setCodes} />}
        {(q.data?.on || !!q.data?.passkeys) && (
          <div className="flex flex-wrap items-end gap-4">
            <p className="w-full">
              <Lamp state="go">
                {q.data.on ? (
                  <>
                    asked for since <When at={q.data.since} />
                  </>
                ) : (
                  "a passkey of yours stands in for it"
                )}
                ; {count(q.data.left)} recovery codes are left
              </Lamp>
            </p>
            <Labelled label="Your password">
              <input
                className="field w-52"
                type="password"
                autoComplete="current-password"
                value={password}
                onChange={(e) => setPassword(e.target.value)}
              />
            </Labelled>
            <Button onClick={() => renew.mutate()} disabled={!password || renew.isPending}>
              Take new recovery codes
            </Button>
            {q.data.on && (!q.data.demanded || !!q.data.passkeys) && (
              <Button kind="quiet" onClick={() => drop.mutate()} disabled={!password || drop.isPending}>
                Give it up
              </Button>
            )}
          </div>
        )}
      </section>
      <Passkeys onCodes={setCodes} />
    </div>
  );
}

function Confirm({ proposal, onDone }: { proposal: Schema<"RelayProposal">; onDone: (codes: string[]) => void }) {
  const [code, setCode] = useState("");
  const confirm = useMutation({
    mutationFn: () => take(api.PUT("/api/v1/me/second-factor", { body: { code } })),
    onSuccess: (told) => onDone(told.codes),
  });
  const send = (e: FormEvent) => {
    e.preventDefault();
    confirm.mutate();
  };
  return (
    <form onSubmit={send} className="grid grid-cols-[220px_1fr] gap-x-6 max-sm:grid-cols-1">
      <img src={proposal.picture} width={220} height={220} alt="QR code for the authenticator" className="bg-white" />
      <div className="flex flex-col gap-3">
        <p>Scan this with the authenticator, or type what stands below into it. Then give the code that it shows.</p>
        <p className="code break-all">{proposal.secret}</p>
        <Labelled label="The code it shows">
          <input
            className="field code w-40"
            inputMode="numeric"
            autoComplete="one-time-code"
            required
            value={code}
            onChange={(e) => setCode(e.target.value)}
          />
        </Labelled>
        <Trouble error={confirm.error} />
        <div>
          <Button kind="main" type="submit" disabled={confirm.isPending}>
            It counts from now on
          </Button>
        </div>
      </div>
    </form>
  );
}

function Codes({ codes, onSeen }: { codes: string[]; onSeen: () => void }) {
  return (
    <section aria-label="Recovery codes" role="status">
      <h2>Recovery codes</h2>
      <p className="mb-2 max-w-prose">
        Each lets you in once without the authenticator. They are told this once: print them, or write them down, and keep them where the
        phone is not.
      </p>
      <ul className="mb-3 grid w-fit grid-cols-2 gap-x-8 gap-y-1">
        {codes.map((c) => (
          <li key={c} className="code">
            {c}
          </li>
        ))}
      </ul>
      <Button kind="main" onClick={onSeen}>
        I have them
      </Button>
    </section>
  );
}

import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { api, Problem, take } from "../../api/client";
import { knowsPasskeys, provePasskey } from "../../api/passkeys";
import { Button, Trouble } from "../../parts/controls";

export function SignIn() {
  const client = useQueryClient();
  const [email, setEmail] = useState("");
  const [password, setPassword] = useState("");
  const [code, setCode] = useState("");
  const enter = useMutation({
    mutationFn: (code: string) => take(api.POST("/api/v1/session", { body: { email, password, code: code || undefined } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ["me"] }),
  });
  // Once asked for, the code stays asked for, whatever is wrong with it.
  const [asked, setAsked] = useState(false);
  const wanted = asked || (enter.error instanceof Problem && enter.error.about.includes("body.code"));
  if (wanted && !asked) setAsked(true);
  const byPasskey = enter.error instanceof Problem && enter.error.message.includes("passkey");
  const first = wanted && !enter.variables; // it was asked for; nothing was wrong
  const device = useMutation({
    mutationFn: async () => {
      const asked = await take(api.POST("/api/v1/session/passkey/options"));
      const answer = await provePasskey(asked.options);
      return take(api.POST("/api/v1/session/passkey", { body: { state: asked.state, answer } }));
    },
    onSuccess: () => client.invalidateQueries({ queryKey: ["me"] }),
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    enter.mutate(code);
  };
  return (
    <div className="flex min-h-screen flex-col items-center px-4 pt-[16vh]">
      <svg viewBox="0 0 320 70" width="320" height="70" aria-hidden="true" className="mb-6 text-ink">
        <path d="M0 20H110L150 50H320M0 50H110" fill="none" stroke="currentColor" strokeWidth="2" />
        <path d="M190 50 230 20H320" fill="none" stroke="currentColor" strokeWidth="2" opacity="0.35" />
        <circle cx="130" cy="35" r="6" fill="var(--go)" />
      </svg>
      <form onSubmit={submit} className="flex w-full max-w-80 flex-col gap-3">
        <h1 className="mb-1">Open Relay</h1>
        <label className="flex flex-col gap-1">
          <span className="text-quiet">E-mail</span>
          <input
            className="field"
            type="email"
            name="email"
            autoComplete="username"
            required
            autoFocus
            value={email}
            onChange={(e) => setEmail(e.target.value)}
          />
        </label>
        <label className="flex flex-col gap-1">
          <span className="text-quiet">Password</span>
          <input
            className="field"
            type="password"
            name="password"
            autoComplete="current-password"
            required
            value={password}
            onChange={(e) => setPassword(e.target.value)}
          />
        </label>
        {wanted && (
          <label className="flex flex-col gap-1">
            <span className="text-quiet">Code of your authenticator, or a recovery code</span>
            <input
              className="field code"
              name="code"
              autoComplete="one-time-code"
              required
              autoFocus
              maxLength={40}
              value={code}
              onChange={(e) => setCode(e.target.value)}
            />
          </label>
        )}
        {!first && <Trouble error={enter.error} />}
        {first && byPasskey && <p role="status">{enter.error?.message}</p>}
        <Trouble error={device.error} />
        <Button kind="main" type="submit" disabled={enter.isPending} className="py-1.5">
          Sign in
        </Button>
        {knowsPasskeys() && (
          <Button disabled={device.isPending} className="py-1.5" onClick={() => device.mutate()}>
            With a passkey
          </Button>
        )}
      </form>
    </div>
  );
}

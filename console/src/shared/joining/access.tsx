import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, take, type Schema } from "../../api/client";
import { Button, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import { LampShape } from "../../parts/lamp";
import type { Join } from "./part";

type Tested = Schema<"RelayTested">;

/** What a test of credentials came to: which field is wrong, and what the other side said. */
export function Verdict({ tested, fields }: { tested: Tested; fields?: Join["connector"]["fields"] }) {
  const label = (name: string) => fields?.find((f) => f.name === name)?.label ?? name;
  return (
    <div role="status" className={`mb-3 border-l-4 bg-sheet px-3 py-2 ${tested.let_in ? "border-go" : "border-stop"}`}>
      <div className="flex items-start gap-2">
        <span className="pt-0.5">
          <LampShape state={tested.let_in ? "go" : "stop"} />
        </span>
        <span>{tested.text}</span>
      </div>
      {tested.trimmed.length > 0 && (
        <div className="text-[12px] text-quiet">Spaces around {tested.trimmed.map(label).join(", ")} were taken off.</div>
      )}
      {tested.given && (
        <div className="mt-2">
          {Object.entries(tested.given).map(([name, value]) => (
            <div key={name}>
              <span className="text-quiet">{label(name)}: </span>
              <span className="code break-all">{value}</span> <span className="text-[12px] text-quiet">shown this once</span>
            </div>
          ))}
        </div>
      )}
    </div>
  );
}

/** Fields with the steps to fill them beside; nothing is kept unless the other side lets us in. */
export function AccessForm({ join, onDone, renew }: { join: Join; onDone: (ok: boolean) => void; renew?: boolean }) {
  const code = join.connection.code;
  const c = join.connector;
  const [account, setAccount] = useState(0);
  const [address, setAddress] = useState(
    join.connection.base_url.includes("nowhere.invalid") ? (c.address ?? "") : join.connection.base_url || (c.address ?? ""),
  );
  const [site, setSite] = useState(join.connection.site || (c.sites.length === 1 ? (c.sites[0]?.code ?? "") : ""));
  const [secrets, setSecrets] = useState<Record<string, string>>({});
  const consent = c.way === "consent";
  const body = () => (account ? { account, site } : { address, site, secrets });
  const test = useMutation({
    mutationFn: () =>
      take(
        api.POST(renew ? "/api/v1/connections/{code}/renew" : "/api/v1/connections/{code}/access", {
          params: { path: { code } },
          body: body(),
        }),
      ),
    onSuccess: (t) => (t.given ? undefined : onDone(t.let_in)),
  });
  const ask = useMutation({
    mutationFn: () =>
      take(api.POST("/api/v1/connections/{code}/consent", { params: { path: { code } }, body: { ...body(), origin: location.origin } })),
    onSuccess: (p) => location.assign(p.page),
  });
  const tested = test.data ?? (renew ? undefined : join.last);
  const given = c.fields.filter((f) => !f.give);
  const reuse = !renew && join.accounts.length > 0;
  const incomplete =
    !account &&
    ((c.way !== "inbound" && address.trim() === "") ||
      (!renew && given.some((f) => !f.optional && !(secrets[f.name] ?? "").trim())) ||
      (c.sites.length > 0 && site === ""));
  return (
    <div className="lg:grid lg:grid-cols-[minmax(0,1fr)_280px] lg:gap-8">
      <form
        onSubmit={(e) => {
          e.preventDefault();
          if (consent && !account) ask.mutate();
          else test.mutate();
        }}
      >
        {tested && !test.isPending && <Verdict tested={tested} fields={c.fields} />}
        <Trouble error={test.error ?? ask.error} />
        <div className="mt-2 grid gap-3 sm:grid-cols-2">
          {reuse && (
            <Labelled label="Account" wide>
              <select className="field w-full" value={account} onChange={(e) => setAccount(Number(e.target.value))}>
                <option value={0}>A new one</option>
                {join.accounts.map((a) => (
                  <option key={a.id} value={a.id}>
                    {a.name}, {a.number} {a.used.length > 0 ? `(used by ${a.used.join(", ")})` : ""}
                  </option>
                ))}
              </select>
            </Labelled>
          )}
          {c.sites.length > 0 && (
            <Labelled label="Site" wrong={tested?.field === "site"} wide>
              <select className="field w-full" value={site} onChange={(e) => setSite(e.target.value)} disabled={renew}>
                <option value="">Choose …</option>
                {c.sites.map((s) => (
                  <option key={s.code} value={s.code}>
                    {s.name}
                  </option>
                ))}
              </select>
            </Labelled>
          )}
          {!account && c.way !== "inbound" && (
            <Labelled label="Address" help={c.where} wide>
              <input
                className="field code w-full"
                value={address}
                onChange={(e) => setAddress(e.target.value)}
                placeholder={c.way === "files" ? "/srv/exchange, sftp:// or https://" : "https://"}
                spellCheck={false}
              />
            </Labelled>
          )}
          {!account &&
            given.map((f) => (
              <Labelled
                key={f.name}
                label={f.label + (f.optional ? " (optional)" : "")}
                help={renew && f.secret ? "Empty keeps what is there." : f.help}
                wrong={tested?.field === f.name}
                wide={f.lines}
              >
                {f.lines ? (
                  <textarea
                    className="field code w-full"
                    rows={4}
                    autoComplete="off"
                    spellCheck={false}
                    name={f.name}
                    value={secrets[f.name] ?? ""}
                    onChange={(e) => setSecrets({ ...secrets, [f.name]: e.target.value })}
                  />
                ) : (
                  <input
                    className="field code w-full"
                    type={f.secret ? "password" : "text"}
                    autoComplete="off"
                    spellCheck={false}
                    name={f.name}
                    value={secrets[f.name] ?? ""}
                    onChange={(e) => setSecrets({ ...secrets, [f.name]: e.target.value })}
                  />
                )}
              </Labelled>
            ))}
        </div>
        <p className="mt-4 flex items-center gap-3">
          <Button kind="main" type="submit" disabled={incomplete || test.isPending || ask.isPending}>
            {consent && !account
              ? `Go to ${c.title}'s consent page`
              : c.way === "inbound"
                ? "Make a key"
                : test.isPending
                  ? "Asking …"
                  : renew
                    ? "Test and renew"
                    : "Test"}
          </Button>
          {test.data?.given && <Button onClick={() => onDone(true)}>Noted, go on</Button>}
        </p>
        <p className="mt-2 text-[12px] text-quiet">Nothing is kept unless the other side lets us in.</p>
      </form>
      <aside className="mt-5 lg:mt-0">
        {c.steps.length > 0 && (
          <>
            <h3 className="mb-1 text-[12px] text-quiet">How to get there</h3>
            <ol className="border-t border-rule">
              {c.steps.map((s, i) => (
                <li key={i} className="flex gap-3 border-b border-rule py-2">
                  <span className="code text-quiet">{i + 1}</span>
                  <span>{s}</span>
                </li>
              ))}
            </ol>
          </>
        )}
        {consent && (
          <p className="mt-3 text-[12px] text-quiet">
            Our return address there: <span className="code break-all">{location.origin + join.return}</span>
          </p>
        )}
        {c.can.pushes && join.connection.push_path && (
          <p className="mt-3 text-[12px] text-quiet">
            Our push address: <span className="code break-all">{location.origin + join.connection.push_path}</span>
          </p>
        )}
      </aside>
    </div>
  );
}

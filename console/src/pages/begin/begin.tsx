import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { useNavigate } from "react-router";
import { api, take } from "../../api/client";
import { Button, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import { CompanyFields, whole, type Company } from "../../shared/company/fields";

/** A company that has nobody yet: it is named, and its first person with it. */
export default function Begin() {
  const client = useQueryClient();
  const navigate = useNavigate();
  const given = location.hash.replace(/^#/, "");
  const [key, setKey] = useState(given);
  const [company, setCompany] = useState<Company>({ name: "", time_zone: Intl.DateTimeFormat().resolvedOptions().timeZone });
  const [person, setPerson] = useState({ name: "", email: "", password: "" });
  const [again, setAgain] = useState("");
  const begin = useMutation({
    mutationFn: () => take(api.POST("/api/v1/first-run", { body: { key: key.trim(), company: whole(company), person } })),
    onSuccess: async () => {
      void navigate("/", { replace: true }); // the key does not stay in the address
      await client.invalidateQueries({ queryKey: ["me"] });
    },
  });
  const differ = again !== "" && again !== person.password;
  const submit = (e: FormEvent) => {
    e.preventDefault();
    if (!differ) begin.mutate();
  };
  return (
    <div className="mx-auto max-w-2xl px-4 py-10">
      <svg viewBox="0 0 640 40" aria-hidden="true" className="mb-5 w-full text-ink">
        <path d="M0 20H640" fill="none" stroke="currentColor" strokeWidth="2" opacity="0.35" />
        <path d="M0 20H140" fill="none" stroke="currentColor" strokeWidth="2" />
        <circle cx="140" cy="20" r="6" fill="var(--go)" />
      </svg>
      <h1>A company begins</h1>
      <p className="mb-6 max-w-prose text-quiet">
        It has nobody yet. Say what it is called and who leads it; everything can be changed later, under Settings. Then the board leads
        through a first day: a place, items, a channel, a carrier, the first order.
      </p>
      <form onSubmit={submit} className="flex flex-col gap-7">
        {!given && (
          <Labelled label="Key" help="It stands behind the # of the address that the service printed when it started.">
            <input className="field code w-full" required autoFocus value={key} onChange={(e) => setKey(e.target.value)} />
          </Labelled>
        )}
        <fieldset>
          <legend className="mb-2 text-[15px] font-semibold">The company</legend>
          <CompanyFields value={company} onChange={setCompany} />
        </fieldset>
        <fieldset>
          <legend className="mb-2 text-[15px] font-semibold">Who leads it</legend>
          <div className="grid grid-cols-2 gap-3 max-sm:grid-cols-1">
            <Labelled label="Your name">
              <input
                className="field w-full"
                required
                autoComplete="name"
                value={person.name}
                onChange={(e) => setPerson({ ...person, name: e.target.value })}
              />
            </Labelled>
            <Labelled label="E-mail" help="With it you sign in">
              <input
                className="field w-full"
                type="email"
                required
                autoComplete="username"
                value={person.email}
                onChange={(e) => setPerson({ ...person, email: e.target.value })}
              />
            </Labelled>
            <Labelled label="Password" help="At least 8 characters">
              <input
                className="field w-full"
                type="password"
                required
                minLength={8}
                autoComplete="new-password"
                value={person.password}
                onChange={(e) => setPerson({ ...person, password: e.target.value })}
              />
            </Labelled>
            <Labelled label="The same once more" help={differ ? "It is not the same" : ""}>
              <input
                className="field w-full"
                type="password"
                required
                autoComplete="new-password"
                value={again}
                onChange={(e) => setAgain(e.target.value)}
              />
            </Labelled>
          </div>
        </fieldset>
        <Trouble error={begin.error} />
        <div>
          <Button kind="main" type="submit" disabled={begin.isPending || differ} className="py-1.5">
            Begin
          </Button>
        </div>
      </form>
    </div>
  );
}

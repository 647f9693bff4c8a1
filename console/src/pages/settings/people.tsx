import { LastChange } from "../../shared/company/lastchange";
import { may, meQuery } from "../../api/queries";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, take, type Schema } from "../../api/client";
import { Button, Empty, Head, Loading, Sheet, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import { When } from "../../parts/format";
import { Lamp } from "../../parts/lamp";
import { Rail, settingsStops } from "../../parts/rail";
import { SessionsOf } from "./sessions";

type User = Schema<"User">;
type Role = User["role"];

/** What each role may do, in words. */
const roles: { role: Role; may: string }[] = [
  { role: "viewer", may: "looks at everything but what is private" },
  { role: "driver", may: "brings orders to buyers and hands over what lies ready" },
  { role: "packer", may: "picks, packs and ships, and keeps the stock" },
  { role: "bookkeeper", may: "keeps the books" },
  { role: "clerk", may: "works with orders, goods and parcels" },
  { role: "lead", may: "sets up the company, its connections and its people" },
];

/** Who may sign in and what they may do, and the tokens of programs. */
export default function People() {
  const me = useQuery(meQuery);
  if (me.isPending) return <Loading />;
  const lead = may(me.data, "people");
  return (
    <>
      <Head title="People" sub="Who may sign in, what they may do, and the tokens of programs" />
      <Rail label="Settings" stops={settingsStops} />
      <LastChange kinds={["person"]} />
      <div className="flex flex-col gap-9">
        {lead && <Everybody me={me.data?.id ?? 0} />}
        {lead && <Tokens />}
        {!lead && (
          <Empty>
            Who may sign in is for those with the role lead. Your own password is under{" "}
            <Link to="/you" className="underline decoration-rule underline-offset-4 hover:decoration-ink">
              You
            </Link>
            .
          </Empty>
        )}
      </div>
    </>
  );
}

function Everybody({ me }: { me: number }) {
  const client = useQueryClient();
  const people = useQuery({ queryKey: ["people"], queryFn: () => take(api.GET("/api/v1/people")) });
  const [edit, setEdit] = useState<User | "new" | null>(null);
  const [at, setAt] = useState<User | null>(null);
  const done = (list: User[]) => client.setQueryData(["people"], list);
  const leave = useMutation({
    mutationFn: (u: User) => take(api.POST("/api/v1/people/{id}/leave", { params: { path: { id: u.id } }, body: { left: !u.left_at } })),
    onSuccess: done,
  });
  return (
    <section aria-label="Everybody">
      <div className="mb-1 flex items-baseline justify-between">
        <h2>Everybody</h2>
        <Button onClick={() => setEdit("new")}>Add a person</Button>
      </div>
      <Trouble error={people.error ?? leave.error} />
      {people.isPending && <Loading />}
      {people.data?.length === 0 && <Empty>Nobody yet.</Empty>}
      {people.data && people.data.length > 0 && (
        <table className="ledger">
          <thead>
            <tr>
              <th>Name</th>
              <th>E-mail</th>
              <th>Role</th>
              <th>Signed in last</th>
              <th>Second factor</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {people.data.map((u) => (
              <tr key={u.id} className={u.left_at ? "text-quiet" : ""}>
                <td className="font-medium">
                  {u.name} {u.id === me && <span className="font-normal text-quiet">(you)</span>}
                </td>
                <td>{u.email}</td>
                <td>
                  {u.left_at ? (
                    <Lamp state="idle">
                      left <When at={u.left_at} />
                    </Lamp>
                  ) : (
                    <span title={roles.find((r) => r.role === u.role)?.may}>{u.role}</span>
                  )}
                </td>
                <td>{u.signed_in_at ? <When at={u.signed_in_at} /> : "never"}</td>
                <td>
                  {u.factor_at || u.passkeys ? (
                    <Lamp state="go">{[u.factor_at && "codes", u.passkeys && "passkey"].filter(Boolean).join(", ")}</Lamp>
                  ) : (
                    <Lamp state="idle">none</Lamp>
                  )}
                </td>
                <td>
                  <div className="-my-1 flex justify-end gap-4 whitespace-nowrap">
                    {!u.left_at && (
                      <>
                        <Button kind="quiet" aria-label={`Change ${u.name}`} onClick={() => setEdit(u)}>
                          Change
                        </Button>
                        <Button kind="quiet" aria-label={`Sessions of ${u.name}`} onClick={() => setAt(u)}>
                          Sessions
                        </Button>
                      </>
                    )}
                    <Button
                      kind="quiet"
                      aria-label={u.left_at ? `Comes back: ${u.name}` : `Leaves: ${u.name}`}
                      onClick={() => leave.mutate(u)}
                    >
                      {u.left_at ? "Comes back" : "Leaves"}
                    </Button>
                  </div>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <Sheet open={at !== null} onClose={() => setAt(null)} title={at ? `Where ${at.name} is signed in` : ""}>
        {at && (
          <SessionsOf
            user={people.data?.find((u) => u.id === at.id) ?? at}
            onDone={(list) => {
              done(list);
              if (at.id === me) void client.invalidateQueries({ queryKey: ["me"] });
            }}
          />
        )}
      </Sheet>
      <Sheet open={edit !== null} onClose={() => setEdit(null)} title={edit === "new" ? "A person" : (edit?.name ?? "")}>
        {edit && (
          <PersonForm
            was={edit === "new" ? undefined : edit}
            onDone={(list) => {
              done(list);
              setEdit(null);
            }}
          />
        )}
      </Sheet>
    </section>
  );
}

function PersonForm({ was, onDone }: { was?: User; onDone: (list: User[]) => void }) {
  const [name, setName] = useState(was?.name ?? "");
  const [email, setEmail] = useState(was?.email ?? "");
  const [role, setRole] = useState<Role>(was?.role ?? "clerk");
  const [password, setPassword] = useState("");
  const save = useMutation({
    mutationFn: () =>
      was
        ? take(
            api.PATCH("/api/v1/people/{id}", {
              params: { path: { id: was.id } },
              body: { name, email, role, password: password || undefined },
            }),
          )
        : take(api.POST("/api/v1/people", { body: { name, email, role, password } })),
    onSuccess: onDone,
  });
  return (
    <form
      className="flex flex-col gap-3"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate();
      }}
    >
      <Labelled label="Name">
        <input className="field w-full" required autoFocus value={name} onChange={(e) => setName(e.target.value)} />
      </Labelled>
      <Labelled label="E-mail">
        <input className="field w-full" type="email" required value={email} onChange={(e) => setEmail(e.target.value)} />
      </Labelled>
      <fieldset>
        <legend className="mb-1 text-[12px] text-quiet">Role</legend>
        {roles.map((r) => (
          <label key={r.role} className="flex items-baseline gap-2 py-0.5">
            <input type="radio" name="role" checked={role === r.role} onChange={() => setRole(r.role)} />
            <span>
              {r.role} <span className="text-[12px] text-quiet">{r.may}</span>
            </span>
          </label>
        ))}
      </fieldset>
      <Labelled
        label={was ? "New password" : "Password"}
        help={was ? "Empty: it stays. With a new one, all their sessions end." : "At least 8 characters. They change it under You."}
      >
        <input
          className="field w-full"
          type="password"
          autoComplete="new-password"
          required={!was}
          minLength={8}
          value={password}
          onChange={(e) => setPassword(e.target.value)}
        />
      </Labelled>
      <Trouble error={save.error} />
      <Button kind="main" type="submit" disabled={save.isPending}>
        {was ? "Keep the change" : "Add"}
      </Button>
    </form>
  );
}

function Tokens() {
  const client = useQueryClient();
  const tokens = useQuery({ queryKey: ["tokens"], queryFn: () => take(api.GET("/api/v1/tokens")) });
  const [name, setName] = useState("");
  const [role, setRole] = useState<Role>("clerk");
  const [days, setDays] = useState("365");
  const [told, setTold] = useState("");
  const done = () => void client.invalidateQueries({ queryKey: ["tokens"] });
  const make = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/v1/tokens", {
          body: { name, role, ends: days ? new Date(Date.now() + Number(days) * 86_400_000).toISOString() : undefined },
        }),
      ),
    onSuccess: (t) => {
      setTold(t.token);
      setName("");
      done();
    },
  });
  const revoke = useMutation({
    mutationFn: (id: number) => take(api.DELETE("/api/v1/tokens/{id}", { params: { path: { id } } })),
    onSuccess: done,
  });
  return (
    <section aria-label="Tokens">
      <h2>Tokens</h2>
      <p className="mb-2 max-w-prose text-quiet">
        With a token a program, such as the command line, works under its own name. Its secret is told once; a token that leaked is revoked
        at once.
      </p>
      <Trouble error={tokens.error ?? make.error ?? revoke.error} />
      {told && (
        <div role="status" className="mb-3 border-l-4 border-go bg-sheet px-3 py-2">
          <p>This is the token. It is not told again:</p>
          <code className="code mt-1 block break-all select-all">{told}</code>
          <Button kind="quiet" onClick={() => setTold("")}>
            I have it
          </Button>
        </div>
      )}
      {tokens.data && tokens.data.length > 0 && (
        <table className="ledger mb-3">
          <thead>
            <tr>
              <th>What for</th>
              <th>Role</th>
              <th>Made</th>
              <th>Used last</th>
              <th>Ends</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {tokens.data.map((t) => (
              <tr key={t.id} className={t.revoked_at ? "text-quiet" : ""}>
                <td className="font-medium">{t.name}</td>
                <td>{t.role}</td>
                <td>
                  <When at={t.made_at} /> {t.made_by && <span className="text-quiet">by {t.made_by}</span>}
                </td>
                <td>{t.used_at ? <When at={t.used_at} /> : "never"}</td>
                <td>{t.ends_at ? <When at={t.ends_at} /> : "not by itself"}</td>
                <td className="r">
                  {t.revoked_at ? (
                    <Lamp state="idle">
                      revoked <When at={t.revoked_at} />
                    </Lamp>
                  ) : (
                    <Button kind="quiet" aria-label={`Revoke ${t.name}`} onClick={() => revoke.mutate(t.id)} disabled={revoke.isPending}>
                      Revoke
                    </Button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <form
        className="flex flex-wrap items-end gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate();
        }}
      >
        <Labelled label="What it is for">
          <input className="field w-56" required maxLength={100} value={name} onChange={(e) => setName(e.target.value)} />
        </Labelled>
        <Labelled label="Role of the token">
          <select className="field" value={role} onChange={(e) => setRole(e.target.value as Role)}>
            {roles.map((r) => (
              <option key={r.role}>{r.role}</option>
            ))}
          </select>
        </Labelled>
        <Labelled label="It ends after">
          <select className="field" value={days} onChange={(e) => setDays(e.target.value)}>
            <option value="30">30 days</option>
            <option value="90">90 days</option>
            <option value="365">a year</option>
            <option value="">not by itself</option>
          </select>
        </Labelled>
        <Button type="submit" disabled={make.isPending}>
          Make a token
        </Button>
      </form>
    </section>
  );
}

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { api, take, type Schema } from "../../api/client";
import { Button, Empty, Sheet, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import { count, When } from "../../parts/format";
import { Lamp } from "../../parts/lamp";
import { Retention } from "./retention";
import { SettingsPage } from "../../shared/company/settingspage";

type All = Schema<"Backups">;
type Backup = Schema<"Backup">;

/** The company's file: its copies, and the keys of what is sealed in it. */
export default function Keeping() {
  return (
    <SettingsPage
      kinds={["retention", "backups"]}
      title="Keeping"
      sub="Copies of the company's file, how long things stay whole, and the keys of its secrets"
      needs="setup"
      about="What keeps the company's file"
    >
      <Backups />
      <Retention />
      <Keys />
    </SettingsPage>
  );
}

const backupsKey = ["backups"];

function Backups() {
  const client = useQueryClient();
  const q = useQuery({
    queryKey: backupsKey,
    queryFn: () => take(api.GET("/api/v1/backups")),
    refetchInterval: (query) => (query.state.data?.underway ? 1000 : false),
  });
  const [edit, setEdit] = useState(false);
  const done = (all: All) => client.setQueryData(backupsKey, all);
  const now = useMutation({ mutationFn: () => take(api.POST("/api/v1/backups")), onSuccess: done });
  const stop = useMutation({
    mutationFn: (all: All) => take(api.PUT("/api/v1/backups", { body: { ...all.schedule, on: false } })),
    onSuccess: done,
  });
  const all = q.data;
  return (
    <section aria-label="Backups">
      <div className="mb-1 flex items-baseline justify-between">
        <h2>Backups</h2>
        {all?.folder && (
          <div className="flex gap-2">
            {all.schedule.on && (
              <Button kind="quiet" onClick={() => stop.mutate(all)} disabled={stop.isPending}>
                Make none by itself
              </Button>
            )}
            <Button onClick={() => setEdit(true)}>{all.schedule.on ? "Change" : "Make them daily"}</Button>
            <Button kind="main" onClick={() => now.mutate()} disabled={now.isPending || !!all.underway || !all.passphrase}>
              Make one now
            </Button>
          </div>
        )}
      </div>
      <p className="mb-2 max-w-prose text-quiet">
        A copy holds everything, as of one moment, and is checked before it counts. Its keys are sealed under a passphrase: without it, a
        copy opens no account at any system. <span className="code">openrelay restore</span> makes a company of it again.
      </p>
      <Trouble error={q.error ?? now.error ?? stop.error} />
      {all && !all.folder && (
        <Empty>
          The service was started without a folder for backups. Start it with <span className="code">-backups FOLDER</span>, best on another
          disk; or copy by hand with <span className="code">openrelay backup</span>.
        </Empty>
      )}
      {all?.folder && <Standing all={all} />}
      {all && all.list.length > 0 && <List list={all.list} />}
      <Sheet open={edit} onClose={() => setEdit(false)} title="Backups each day">
        {all && (
          <Form
            all={all}
            onDone={(fresh) => {
              done(fresh);
              setEdit(false);
            }}
          />
        )}
      </Sheet>
    </section>
  );
}

function Standing({ all }: { all: All }) {
  const last = all.list[0];
  if (all.underway)
    return (
      <Lamp state="busy">being made{all.underway.total ? `, ${Math.floor((100 * all.underway.done) / all.underway.total)} %` : ""}</Lamp>
    );
  if (last?.error) return <Lamp state="stop">the last one failed; it is tried again within the hour</Lamp>;
  if (!all.schedule.on) return <Lamp state="idle">none is made by itself</Lamp>;
  return (
    <Lamp state="go">
      each day at {all.schedule.at}; {count(all.schedule.keep)} are kept
    </Lamp>
  );
}

function List({ list }: { list: Backup[] }) {
  return (
    <table className="ledger mt-2">
      <thead>
        <tr>
          <th>File</th>
          <th>Made</th>
          <th>By</th>
          <th className="r">Size</th>
          <th className="r">Took</th>
          <th>State</th>
        </tr>
      </thead>
      <tbody>
        {list.map((b) => (
          <tr key={b.id} className={b.gone_at ? "text-quiet" : ""}>
            <td className="code">{b.name}</td>
            <td>
              <When at={b.began_at} />
            </td>
            <td>{b.who}</td>
            <td className="r fig">{b.bytes ? `${(b.bytes / 1e6).toFixed(1)} MB` : ""}</td>
            <td className="r fig">{b.ended_at && b.began_at ? `${seconds(b.began_at, b.ended_at)} s` : ""}</td>
            <td>
              {b.error ? (
                <Lamp state="stop">{b.error}</Lamp>
              ) : b.gone_at ? (
                "removed, newer ones are there"
              ) : (
                <Lamp state={b.ended_at ? "go" : "busy"}>{b.ended_at ? "there" : "being made"}</Lamp>
              )}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

const seconds = (from: string, to: string) => ((Date.parse(to) - Date.parse(from)) / 1000).toFixed(1);

function Form({ all, onDone }: { all: All; onDone: (all: All) => void }) {
  const [at, setAt] = useState(all.schedule.at);
  const [keep, setKeep] = useState(String(all.schedule.keep));
  const [passphrase, setPassphrase] = useState("");
  const put = useMutation({
    mutationFn: () => take(api.PUT("/api/v1/backups", { body: { on: true, at, keep: Number(keep), passphrase: passphrase || undefined } })),
    onSuccess: onDone,
  });
  const send = (e: FormEvent) => {
    e.preventDefault();
    put.mutate();
  };
  return (
    <form className="grid grid-cols-2 gap-3" onSubmit={send}>
      <Labelled label="Time of day" help="By the company's clocks">
        <input className="field fig w-full" type="time" required value={at} onChange={(e) => setAt(e.target.value)} />
      </Labelled>
      <Labelled label="How many are kept" help="Older ones are removed">
        <input
          className="field fig w-full"
          type="number"
          min={1}
          max={400}
          required
          value={keep}
          onChange={(e) => setKeep(e.target.value)}
        />
      </Labelled>
      <div className="col-span-2">
        <Labelled
          label={all.passphrase ? "A new passphrase" : "Passphrase"}
          help={
            all.passphrase
              ? "Left empty, the one that is known stays; older copies keep theirs"
              : "At least 12 characters. Keep it where this machine's disk is not: nobody can open a copy without it"
          }
        >
          <input
            className="field w-full"
            type="password"
            autoComplete="new-password"
            minLength={12}
            required={!all.passphrase}
            value={passphrase}
            onChange={(e) => setPassphrase(e.target.value)}
          />
        </Labelled>
      </div>
      <div className="col-span-2">
        <Trouble error={put.error} />
        <Button kind="main" type="submit" disabled={put.isPending}>
          Keep it so
        </Button>
      </div>
    </form>
  );
}

function Keys() {
  const [asked, setAsked] = useState(false);
  const rotate = useMutation({ mutationFn: () => take(api.POST("/api/v1/keys/rotate")), onSettled: () => setAsked(false) });
  return (
    <section aria-label="Keys">
      <div className="mb-1 flex items-baseline justify-between">
        <h2>Keys</h2>
        <Button onClick={() => setAsked(true)}>Take a new key</Button>
      </div>
      <p className="max-w-prose text-quiet">
        What lets the company in at other systems is sealed with a key that lies beside the file. Take a new one when somebody may have seen
        it; everything is sealed anew at once.
      </p>
      <Trouble error={rotate.error} />
      {rotate.data && (
        <p role="status" className="mt-2">
          <Lamp state="go">
            {count(rotate.data.secrets)} secrets are sealed with key {rotate.data.key} now. Make a backup: older ones hold the older key.
          </Lamp>
        </p>
      )}
      <Sheet open={asked} onClose={() => setAsked(false)} title="A new key">
        <p className="mb-3">All secrets are sealed anew. Who has a copy of the old key can open nothing that is sealed from then on.</p>
        <Button kind="main" onClick={() => rotate.mutate()} disabled={rotate.isPending}>
          Seal everything anew
        </Button>
      </Sheet>
    </section>
  );
}

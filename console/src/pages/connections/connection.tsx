import { connectionQuery, may, meQuery } from "../../api/queries";
import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, Navigate, useParams } from "react-router";
import { api, take, takeWith, type Schema } from "../../api/client";
import { Button, Empty, Head, Loading, Sheet, ShowMore, Trouble } from "../../parts/controls";
import { Switch } from "../../parts/fields";
import { Age, count, When } from "../../parts/format";
import { Lamp, type LampState } from "../../parts/lamp";
import { Files } from "./files";
import { More } from "./more";

type Feed = Schema<"Feed">;

const words: Record<string, string> = { push: "pushed to us", read: "read by us", send: "sent by us" };

export default function ConnectionPage() {
  const { code = "" } = useParams();
  const client = useQueryClient();
  const refresh = () => {
    for (const key of ["connection", "connections", "runs", "board"]) void client.invalidateQueries({ queryKey: [key] });
  };
  const q = useQuery(connectionQuery(code));
  const me = useQuery(meQuery);
  const [ask, setAsk] = useState<Feed | "pause" | null>(null);
  const test = useMutation({ mutationFn: () => take(api.POST("/api/v1/connections/{code}/test", { params: { path: { code } } })) });
  const pause = useMutation({
    mutationFn: (paused: boolean) =>
      take(
        api.PATCH("/api/v1/connections/{code}", {
          params: { path: { code }, header: { "If-Match": `"${q.data?.revision}"` } },
          body: { paused },
        }),
      ),
    onSuccess: () => setAsk(null),
    onSettled: refresh,
  });
  const set = useMutation({
    mutationFn: (f: Feed & { to: boolean }) =>
      take(
        api.PATCH("/api/v1/connections/{code}/feeds/{kind}", {
          params: { path: { code, kind: f.kind }, header: { "If-Match": `"${f.revision}"` } },
          body: { on: f.to, schedule: f.schedule },
        }),
      ),
    onSuccess: () => setAsk(null),
    onSettled: refresh,
  });
  const run = useMutation({
    mutationFn: (kind: string) =>
      take(api.POST("/api/v1/connections/{code}/feeds/{kind}/run", { params: { path: { code, kind } }, body: {} })),
    onSettled: refresh,
  });
  if (q.isPending) return <Loading />;
  if (q.error) return <Trouble error={q.error} />;
  const c = q.data;
  if (c.state === "joining") return <Navigate to={`/connections/${code}/join`} replace />;
  const lead = may(me.data, "setup");
  return (
    <>
      <Head
        title={c.name}
        sub={
          <span className="flex flex-wrap gap-x-4">
            <Lamp state={c.lamp.state as LampState}>{c.lamp.text}</Lamp>
            <span>
              {c.title}, {c.side}
            </span>
            {c.account_no && (
              <span>
                {c.account}, <span className="code">{c.account_no}</span>
              </span>
            )}
            <span className="code">{c.base_url}</span>
          </span>
        }
      >
        {test.data && (
          <span role="status">
            <Lamp state="go">
              let in as {test.data.name}, number {test.data.number}, {test.data.country}
            </Lamp>
          </span>
        )}
        <Link to={`/connections/${code}/bench`} className="px-1 underline decoration-rule underline-offset-4">
          Bench
        </Link>
        <Button onClick={() => test.mutate()} disabled={test.isPending || c.state !== "on"}>
          {test.isPending ? "Asking …" : "Test"}
        </Button>
        {lead &&
          c.state === "on" &&
          (c.paused ? (
            <Button kind="main" onClick={() => pause.mutate(false)}>
              Resume
            </Button>
          ) : (
            <Button onClick={() => setAsk("pause")}>Pause</Button>
          ))}
      </Head>
      <Trouble error={test.error ?? pause.error ?? set.error ?? run.error} />
      <section className="mb-7">
        <h2 className="mb-1">Feeds</h2>
        <table className="ledger">
          <thead>
            <tr>
              <th>On</th>
              <th>Feed</th>
              <th>Stands</th>
              <th>How</th>
              <th>Schedule</th>
              <th>Last good run</th>
              <th>Next</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {c.feeds.map((f) => (
              <tr key={f.kind}>
                <td>
                  <Switch
                    label={`${f.kind} on`}
                    on={f.on}
                    disabled={!lead || set.isPending || c.state !== "on"}
                    onChange={(to) => (to ? set.mutate({ ...f, to }) : setAsk(f))}
                  />
                </td>
                <td className="font-medium whitespace-nowrap">{f.kind}</td>
                <td className="max-w-80">
                  <Lamp state={f.lamp.state as LampState}>{f.failures ? "" : f.lamp.text}</Lamp>
                  {f.failures > 0 && <span className="text-[12px] text-stop"> {f.lamp.text}</span>}
                </td>
                <td className="text-quiet">{f.ways.map((w) => words[w] ?? w).join(", ")}</td>
                <td className="code whitespace-nowrap">
                  {f.schedule || (f.every ? `every ${f.every.replace("0s", "").replace(/m$/, " min") || f.every}` : "")}
                </td>
                <td>
                  <Age at={f.last_ok} />
                </td>
                <td className="text-quiet">{f.next ? <Age at={f.next} /> : ""}</td>
                <td className="r">
                  {f.ways.includes("read") && (
                    <Button onClick={() => run.mutate(f.kind)} disabled={!f.on || run.isPending || me.data?.role === "viewer"}>
                      Run now
                    </Button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        {c.push_path && (
          <p className="mt-2 text-[12px] text-quiet">
            The other side pushes to <span className="code">{location.origin + c.push_path}</span>
          </p>
        )}
      </section>
      {lead && c.state !== "left" && <More connection={c} onChanged={refresh} />}
      <Files code={code} />
      <Runs code={code} feeds={c.feeds} />
      <Sheet
        open={ask !== null}
        onClose={() => setAsk(null)}
        title={ask === "pause" ? `Pause ${c.name}` : `Switch off ${typeof ask === "object" && ask ? ask.kind : ""}`}
      >
        <p className="mb-4">
          {ask === "pause"
            ? `Nothing is read from ${c.name} and nothing is sent to it until it is resumed. What it pushes is kept and waits ` +
              `as well. ${count(c.waiting)} messages wait.`
            : off(typeof ask === "object" && ask ? ask.kind : "", c.name)}
        </p>
        <Button
          kind="main"
          onClick={() => (ask === "pause" ? pause.mutate(true) : ask && set.mutate({ ...ask, to: false }))}
          disabled={pause.isPending || set.isPending}
        >
          {ask === "pause" ? "Pause" : "Switch off"}
        </Button>
      </Sheet>
    </>
  );
}

function off(kind: string, name: string): string {
  switch (kind) {
    case "orders in":
      return (
        `New orders of ${name} will not be taken in; their goods are not allocated and may be sold twice. ` +
        "They are read when the feed is on again."
      );
    case "stock out":
      return `${name} will go on showing the quantities it shows now, whatever is sold elsewhere.`;
    case "dispatch out":
      return `${name} will not learn of tracking numbers until the feed is on again; they wait.`;
    default:
      return `Nothing moves over this feed until it is on again.`;
  }
}

function Runs({ code, feeds }: { code: string; feeds: Feed[] }) {
  const [open, setOpen] = useState<number | null>(null);
  const q = useInfiniteQuery({
    queryKey: ["runs", code],
    initialPageParam: "",
    queryFn: ({ pageParam }) => {
      const before = Number(new URLSearchParams(pageParam).get("before") ?? 0) || undefined;
      return takeWith(api.GET("/api/v1/runs", { params: { query: { connection: code, limit: 30, before } } }));
    },
    getNextPageParam: (last) => last.next,
  });
  const runs = q.data?.pages.flatMap((p) => p.data) ?? [];
  const one = useQuery({
    queryKey: ["run", open],
    enabled: open !== null,
    queryFn: () => take(api.GET("/api/v1/runs/{id}", { params: { path: { id: open as number } } })),
  });
  return (
    <section>
      <div className="mb-1 flex flex-wrap items-end justify-between gap-3">
        <h2>Runs</h2>
        <LoadAgain code={code} feeds={feeds} />
      </div>
      <Trouble error={q.error} />
      {q.isSuccess && runs.length === 0 && (
        <Empty>No run has brought anything yet. A run stands here when it found something, failed, or was asked for.</Empty>
      )}
      {runs.length > 0 && (
        <table className="ledger">
          <thead>
            <tr>
              <th>Run</th>
              <th>Feed</th>
              <th>Why</th>
              <th>State</th>
              {["Found", "New", "Changed", "Skipped", "Failed"].map((h) => (
                <th key={h} className="r">
                  {h}
                </th>
              ))}
              <th>Reasons</th>
              <th>Began</th>
            </tr>
          </thead>
          <tbody>
            {runs.map((r) => (
              <tr key={r.id} data-open="" tabIndex={0} onClick={() => setOpen(r.id)} onKeyDown={(e) => e.key === "Enter" && setOpen(r.id)}>
                <td className="code">{r.id}</td>
                <td className="whitespace-nowrap">{r.feed}</td>
                <td className="whitespace-nowrap">{r.cause}</td>
                <td>
                  <Lamp state={r.state === "failed" ? "stop" : r.state === "running" || r.state === "open" ? "busy" : "go"}>{r.state}</Lamp>
                </td>
                {[r.found, r.new, r.changed, r.skipped].map((n, i) => (
                  <td key={i} className={`r fig ${n ? "" : "text-quiet"}`}>
                    {count(n)}
                  </td>
                ))}
                <td className={`r fig ${r.failed ? "text-stop" : "text-quiet"}`}>{count(r.failed)}</td>
                <td className="text-quiet">
                  {Object.entries(r.reasons)
                    .map(([why, n]) => `${n} ${why}`)
                    .join(", ")}
                </td>
                <td>
                  <When at={r.started_at} />
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <ShowMore of={q} />
      <Sheet open={open !== null} onClose={() => setOpen(null)} title={`Run ${open}`} wide>
        {one.isPending && <Loading />}
        {one.data && (
          <>
            <p className="mb-2">
              {one.data.run.feed}, {one.data.run.cause}: {one.data.run.state}.{" "}
              {one.data.run.error && <span className="text-stop">{one.data.run.error}</span>}
            </p>
            {one.data.log.length === 0 && <p className="text-quiet">Nothing was noted beside the counts.</p>}
            <table className="ledger">
              <tbody>
                {one.data.log.map((l, i) => (
                  <tr key={i}>
                    <td>
                      <When at={l.at} />
                    </td>
                    <td className={l.level === "error" ? "text-stop" : ""}>{l.text}</td>
                  </tr>
                ))}
              </tbody>
            </table>
            <p className="mt-3 flex gap-4">
              {["csv", "ndjson"].map((f) => (
                <a key={f} className="underline decoration-rule underline-offset-4" href={`/api/v1/runs/${open}/log?format=${f}`}>
                  Log as {f.toUpperCase()}
                </a>
              ))}
            </p>
          </>
        )}
      </Sheet>
    </section>
  );
}

/** Loads a feed again from a day on; what is known is recognised. */
function LoadAgain({ code, feeds }: { code: string; feeds: Feed[] }) {
  const client = useQueryClient();
  const kinds = feeds.filter((f) => f.ways.includes("read") && f.on).map((f) => f.kind);
  const [kind, setKind] = useState(kinds[0] ?? "");
  const [day, setDay] = useState("");
  const load = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/v1/connections/{code}/feeds/{kind}/run", { params: { path: { code, kind } }, body: { from: `${day}T00:00:00Z` } }),
      ),
    onSettled: () => void client.invalidateQueries({ queryKey: ["runs"] }),
  });
  if (kinds.length === 0) return null;
  return (
    <form
      className="flex flex-wrap items-center gap-2 text-[13px]"
      onSubmit={(e) => {
        e.preventDefault();
        load.mutate();
      }}
    >
      <span className="text-quiet">Load</span>
      <select className="field" aria-label="Feed to load" value={kind} onChange={(e) => setKind(e.target.value)}>
        {kinds.map((k) => (
          <option key={k}>{k}</option>
        ))}
      </select>
      <span className="text-quiet">from</span>
      <input className="field" type="date" aria-label="From this day" value={day} onChange={(e) => setDay(e.target.value)} />
      <Button type="submit" disabled={!day || load.isPending}>
        Load again
      </Button>
      <Trouble error={load.error} />
    </form>
  );
}

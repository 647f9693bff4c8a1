import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef, useState, type FormEvent } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { api, Problem, take, takeWith, type Schema } from "../../api/client";
import { Button, Cut, Empty, Head, Loading, ShowMore, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import { count, When } from "../../parts/format";
import { Lamp, type LampState } from "../../parts/lamp";
import { catalogStops, Rail } from "../../parts/rail";

const states: Record<string, LampState> = { checking: "busy", checked: "caution", applying: "busy", done: "go", failed: "stop" };
const verdicts: Record<string, LampState> = { add: "go", added: "go", change: "busy", changed: "go", nothing: "idle", refused: "stop" };

const maxSheets = 100;

/** CSV files, in and out. */
export default function Tables() {
  const navigate = useNavigate();
  const [params] = useSearchParams();
  const [kind, setKind] = useState(params.get("kind") ?? "items");
  const file = useRef<HTMLInputElement>(null);
  const kinds = useQuery({ queryKey: ["sheet-kinds"], staleTime: Infinity, queryFn: () => take(api.GET("/api/v1/sheet-kinds")) });
  const q = useQuery({ queryKey: ["sheets"], queryFn: () => take(api.GET("/api/v1/sheets", { params: { query: { limit: maxSheets } } })) });
  const send = useMutation({
    mutationFn: async () => {
      const f = file.current?.files?.[0];
      if (!f) throw new Problem(0, "Choose a file first.");
      const res = await fetch(`/api/v1/sheets/${kind}?name=${encodeURIComponent(f.name)}`, {
        method: "POST",
        headers: { "Content-Type": "text/csv" },
        body: f,
      });
      const said = (await res.json()) as { id?: number; detail?: string };
      if (!res.ok || !said.id) throw new Problem(res.status, said.detail ?? `The service answered ${res.status}.`);
      return said.id;
    },
    onSuccess: (id) => void navigate(`/tables/${id}`),
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    send.mutate();
  };
  const chosen = kinds.data?.find((k) => k.kind === kind);
  return (
    <>
      <Head title="CSV" sub="Tables in and out; a file is looked at row by row before it changes anything" />
      <Rail label="Catalog" stops={catalogStops} />
      <div className="grid gap-x-10 gap-y-6 lg:grid-cols-[3fr_2fr]">
        <section>
          <h2 className="mb-2">Hand a file in</h2>
          <form onSubmit={submit} className="flex flex-wrap items-end gap-3">
            <Labelled label="Kind">
              <select className="field" value={kind} onChange={(e) => setKind(e.target.value)}>
                {kinds.data
                  ?.filter((k) => k.in)
                  .map((k) => (
                    <option key={k.kind}>{k.kind}</option>
                  ))}
              </select>
            </Labelled>
            <Labelled label="File">
              <input ref={file} type="file" accept=".csv,.txt,text/csv" required className="field" />
            </Labelled>
            <Button kind="main" type="submit" disabled={send.isPending}>
              {send.isPending ? "Sending …" : "Look at it"}
            </Button>
          </form>
          <Trouble error={send.error} />
          {chosen && (
            <div className="mt-4">
              <p className="mb-2 max-w-prose text-quiet">{chosen.about}. Commas, semicolons or tabs; UTF-8, UTF-16 or Windows-1252.</p>
              <table className="ledger">
                <tbody>
                  {chosen.columns.map((c) => (
                    <tr key={c.name}>
                      <td className="code w-36">{c.name}</td>
                      <td className="w-20">{c.need ? "needed" : ""}</td>
                      <td className="text-quiet">{c.about}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </div>
          )}
        </section>
        <section>
          <h2 className="mb-2">Save</h2>
          <ul className="mb-6 flex flex-wrap gap-x-5 gap-y-1">
            {kinds.data
              ?.filter((k) => k.out)
              .map((k) => (
                <li key={k.kind}>
                  <a className="underline decoration-rule underline-offset-4" href={`/api/v1/saved/${k.kind}.csv`} download>
                    {k.kind}
                  </a>
                </li>
              ))}
          </ul>
          <h2 className="mb-1">Handed in</h2>
          <Trouble error={q.error} />
          {q.data?.length === 0 && <Empty>Nothing was handed in yet.</Empty>}
          <table className="ledger">
            <tbody>
              {q.data?.map((s) => (
                <tr key={s.id}>
                  <td>
                    <Link className="underline decoration-rule underline-offset-4" to={`/tables/${s.id}`}>
                      {s.name || s.kind}
                    </Link>
                    <div className="text-[12px] text-quiet">
                      {s.kind}, {s.who}, <When at={s.at} />
                    </div>
                  </td>
                  <td className="r fig">{count(s.total)}</td>
                  <td>
                    <Lamp state={states[s.state] ?? "idle"}>{s.state === "checked" ? "to be decided" : s.state}</Lamp>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          <Cut shown={q.data?.length ?? 0} limit={maxSheets}>
            Older ones stand at their own addresses.
          </Cut>
        </section>
      </div>
    </>
  );
}

/** One file: what each row changes, each refused row with its reason, and the word to go on. */
export function TablePage() {
  const { id = "0" } = useParams();
  const client = useQueryClient();
  const [params, setParams] = useSearchParams();
  const verdict = params.get("verdict") ?? "";
  const q = useQuery({
    queryKey: ["sheet", id],
    queryFn: () => take(api.GET("/api/v1/sheets/{id}", { params: { path: { id: Number(id) } } })),
    refetchInterval: (x) => (x.state.data?.state === "checking" || x.state.data?.state === "applying" ? 700 : false),
  });
  const rows = useInfiniteQuery({
    queryKey: ["sheet", id, "rows", verdict, q.data?.state],
    initialPageParam: "",
    queryFn: ({ pageParam }) =>
      takeWith(
        api.GET("/api/v1/sheets/{id}/rows", {
          params: {
            path: { id: Number(id) },
            query: { limit: 100, verdict: verdict || undefined, after: Number(new URLSearchParams(pageParam).get("after") ?? 0) },
          },
        }),
      ),
    getNextPageParam: (last) => last.next,
  });
  const apply = useMutation({
    mutationFn: () => take(api.POST("/api/v1/sheets/{id}/apply", { params: { path: { id: Number(id) } } })),
    onSettled: () => {
      for (const k of ["sheet", "sheets", "items", "stock"]) void client.invalidateQueries({ queryKey: [k] });
    },
  });
  if (q.isPending) return <Loading />;
  if (q.error) return <Trouble error={q.error} />;
  const s = q.data;
  const list = rows.data?.pages.flatMap((p) => p.data) ?? [];
  const n = (...v: string[]) => s.counts.filter((c) => v.includes(c.verdict)).reduce((a, c) => a + c.count, 0);
  return (
    <>
      <Head
        title={s.name || `Sheet ${s.id}`}
        sub={
          <>
            {s.kind}, {count(s.total)} rows, {s.form.encoding}, columns parted by{" "}
            <span className="code">{s.form.separator === "\t" ? "tabs" : s.form.separator}</span>
          </>
        }
      >
        {s.state === "checked" && (
          <Button kind="main" disabled={n("add", "change") === 0 || apply.isPending} onClick={() => apply.mutate()}>
            Carry out {count(n("add", "change"))} rows
          </Button>
        )}
        {s.state === "done" && <Lamp state="go">carried out</Lamp>}
      </Head>
      <Rail label="Catalog" stops={catalogStops} />
      {(s.state === "checking" || s.state === "applying") && (
        <p role="status" className="mb-3 flex items-center gap-3">
          <Lamp state="busy">
            {s.state === "checking"
              ? `${count(s.total)} rows looked at`
              : `${count(s.done)} of ${count(s.done + n("add", "change"))} carried out`}
          </Lamp>
          <span className="text-quiet">It goes on when you leave.</span>
        </p>
      )}
      <Trouble error={apply.error ?? rows.error ?? (s.error ? new Problem(0, s.error) : null)} />
      <div className="mb-3 flex flex-wrap gap-x-5 gap-y-1" role="group" aria-label="Rows">
        {[["", "all", s.total] as const, ...s.counts.map((c) => [c.verdict, c.verdict, c.count] as const)].map(([v, name, k]) => (
          <button
            key={v}
            type="button"
            aria-pressed={verdict === v}
            className={`border-b-2 py-1 ${verdict === v ? "border-ink font-semibold" : "border-transparent text-quiet"}`}
            onClick={() => setParams(v ? { verdict: v } : {}, { replace: true })}
          >
            {name} <span className="code">{count(k)}</span>
          </button>
        ))}
      </div>
      <Rows list={list} />
      <ShowMore of={rows} />
    </>
  );
}

function Rows({ list }: { list: Schema<"SheetRow">[] }) {
  return (
    <table className="ledger">
      <thead>
        <tr>
          <th className="r">Row</th>
          <th>What</th>
          <th>Of</th>
          <th>Changes</th>
        </tr>
      </thead>
      <tbody>
        {list.map((r) => (
          <tr key={r.row}>
            <td className="r fig">{r.row}</td>
            <td>
              <Lamp state={verdicts[r.verdict] ?? "idle"}>{r.verdict}</Lamp>
            </td>
            <td className="code">{r.key}</td>
            <td className={r.reason ? "text-stop" : ""}>{r.reason || r.changes}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { lazy, Suspense, useCallback, useEffect, useRef, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { may, meQuery } from "../../api/queries";
import { api, take } from "../../api/client";
import { Button, Head, Loading, Sheet, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import { Lamp } from "../../parts/lamp";
import { BeginDefinition } from "./begin";
import { ComparisonView, differs } from "./comparison";
import type { EditorHandle, Place } from "./editor";
import { Outcome, pretty } from "./outcome";
import { useSettled } from "./settled";
import { Versions } from "./versions";

const Editor = lazy(() => import("./editor"));

const keptAs = (code: string) => `definition ${code}`;

/** A definition is written: what is wrong is said as it is typed, and a sample beside it shows what becomes of it. */
export default function DefinitionPage() {
  const { code = "" } = useParams();
  const [params] = useSearchParams();
  const extend = params.get("extends") ?? "";
  const [begun, setBegun] = useState<{ text: string; open: string[] } | null>(null);
  const q = useQuery({
    queryKey: ["connector", code],
    enabled: code !== "",
    queryFn: () => take(api.GET("/api/v1/connectors/{code}", { params: { path: { code } } })),
  });
  if (code === "") {
    if (extend) return <Writing key={extend} code="" text={extending(extend)} />;
    return begun ? <Writing code="" text={begun.text} open={begun.open} /> : <BeginDefinition onBegun={setBegun} />;
  }
  if (q.isPending) return <Loading />;
  if (q.error) return <Trouble error={q.error} />;
  return <Writing key={code} code={code} title={q.data.title} text={q.data.text} fixed={!q.data.added} />;
}

const extending = (parent: string) =>
  [
    `connector: my-${parent}`,
    `extends: ${parent}`,
    `title: My ${parent}`,
    "# Only what differs is written. Mappings are merged key by key, everything else is replaced, and null takes a key away.",
    "",
  ].join("\n");

function Writing({
  code,
  title,
  text: atWork,
  open = [],
  fixed,
}: {
  code: string;
  title?: string;
  text: string;
  open?: string[];
  fixed?: boolean;
}) {
  const me = useQuery(meQuery);
  const lead = may(me.data, "setup");
  const [text, setText] = useState(() => sessionStorage.getItem(keptAs(code)) ?? atWork);
  const [versions, setVersions] = useState(false);
  const [taking, setTaking] = useState(false);
  const editor = useRef<EditorHandle>(null);
  const changed = text !== atWork;
  useEffect(() => {
    if (changed) sessionStorage.setItem(keptAs(code), text);
    else sessionStorage.removeItem(keptAs(code));
  }, [changed, code, text]);
  const settled = useSettled(text);
  const check = useQuery({
    queryKey: ["check", settled],
    enabled: settled.trim() !== "",
    queryFn: () => take(api.POST("/api/v1/connectors/check", { body: { text: settled } })),
    placeholderData: (old) => old,
  });
  const mistakes = check.data?.mistakes ?? none;
  const [chosen, setFeed] = useState("");
  const [samples, setSamples] = useState<Record<string, string>>({});
  // The last text in which nothing was wrong, with its feeds: a sample is tried on it while the next is typed.
  const [known, setKnown] = useState<{ in: string[]; out: string[]; text: string }>({ in: none, out: none, text: "" });
  if (check.data?.good && !check.isPlaceholderData && known.text !== settled) setKnown({ ...check.data, text: settled });
  const feed = chosen || known.in[0] || known.out[0] || "";
  const sample = samples[feed] ?? "";
  const complete = useCallback(
    (all: string, place: Place) => take(api.POST("/api/v1/connectors/complete", { body: { text: all, ...place, sample } })),
    [sample],
  );
  return (
    <>
      <Head
        tab={code ? `Definition of ${code}` : "New definition"}
        title={code ? `Definition of ${title ?? code}` : "A new definition"}
        sub={
          <span className="flex flex-wrap gap-x-4">
            <Standing good={!!check.data?.good} mistakes={mistakes.length} changed={changed} code={code} />
            <Link to="/connectors" className="underline decoration-rule underline-offset-4">
              All systems
            </Link>
          </span>
        }
      >
        {code && !fixed && <Button onClick={() => setVersions(true)}>Versions</Button>}
        {changed && code && <Button onClick={() => setText(atWork)}>Drop what was typed</Button>}
        {fixed ? (
          <Link to={`/connectors/new?extends=${code}`} className="underline decoration-rule underline-offset-4">
            Extend it under another code
          </Link>
        ) : (
          lead && (
            <Button kind="main" disabled={!check.data?.good || settled !== text || (!changed && !!code)} onClick={() => setTaking(true)}>
              {code ? "Compare and take" : "Add"}
            </Button>
          )
        )}
      </Head>
      {fixed && (
        <p className="mb-2 text-quiet">
          It ships with the service, or lies in its folder of definitions. What you type here is tried, and not taken.
        </p>
      )}
      <StillOpen open={open} />
      <div className="h-[40vh] min-h-[260px]">
        <Suspense fallback={<Loading />}>
          <Editor ref={editor} text={text} onChange={setText} mistakes={mistakes} complete={complete} />
        </Suspense>
      </div>
      <Trouble error={check.error} />
      <MistakeList mistakes={mistakes} goTo={(place) => editor.current?.goTo(place)} />
      <Trying
        code={code}
        text={known.text}
        good={known.text === settled}
        feeds={known}
        feed={feed}
        setFeed={setFeed}
        sample={sample}
        setSample={(to) => setSamples((all) => ({ ...all, [feed]: to }))}
        taken={feed in samples}
      />
      <Versions code={code} open={versions} onClose={() => setVersions(false)} onTaken={() => sessionStorage.removeItem(keptAs(code))} />
      {taking && <Taking text={text} code={code} onClose={() => setTaking(false)} />}
    </>
  );
}

const none: never[] = [];

function Standing({ good, mistakes, changed, code }: { good: boolean; mistakes: number; changed: boolean; code: string }) {
  if (mistakes > 0) return <Lamp state="stop">{mistakes === 1 ? "1 mistake" : `${mistakes} mistakes`}</Lamp>;
  if (!good) return <Lamp state="idle">being checked</Lamp>;
  if (!code) return <Lamp state="busy">no mistakes; not added yet</Lamp>;
  return changed ? <Lamp state="busy">no mistakes; not taken yet</Lamp> : <Lamp state="go">as it is at work</Lamp>;
}

function StillOpen({ open }: { open: string[] }) {
  if (open.length === 0) return null;
  return (
    <details className="mb-2 border-l-4 border-caution bg-sheet px-3 py-2">
      <summary>{open.length} things to look at: what could not be known</summary>
      <ul className="mt-1 list-disc pl-5">
        {open.map((o) => (
          <li key={o}>{o}</li>
        ))}
      </ul>
    </details>
  );
}

function MistakeList({
  mistakes,
  goTo,
}: {
  mistakes: { line: number; column: number; path?: string; text: string }[];
  goTo: (place: Place) => void;
}) {
  if (mistakes.length === 0) return null;
  return (
    <ul className="max-h-28 overflow-auto border-x border-b border-rule bg-sheet py-1" aria-label="Mistakes">
      {mistakes.map((m, i) => (
        <li key={i}>
          <button type="button" className="flex w-full gap-3 px-3 py-0.5 text-left hover:bg-wash" onClick={() => goTo(m)}>
            <span className="code w-14 shrink-0 text-right text-stop">{m.line ? `${m.line}:${m.column}` : "–"}</span>
            <span>
              {m.path && <span className="code">{m.path}</span>} {m.text}
            </span>
          </button>
        </li>
      ))}
    </ul>
  );
}

/** A sample on the left, and what becomes of it on the right, as it is typed. */
function Trying({
  code,
  text,
  good,
  feeds,
  feed,
  setFeed,
  sample,
  setSample,
  taken,
}: {
  code: string;
  text: string;
  good: boolean;
  feeds: { in: string[]; out: string[] };
  feed: string;
  setFeed: (to: string) => void;
  sample: string;
  setSample: (to: string) => void;
  taken: boolean;
}) {
  const incoming = feeds.in.includes(feed);
  const given = useQuery({
    queryKey: ["connector", code || "none", "sample", feed],
    enabled: feed !== "" && !taken,
    queryFn: () => take(api.GET("/api/v1/connectors/{code}/sample", { params: { path: { code: code || "none" }, query: { feed } } })),
  });
  const shown = taken ? sample : pretty(given.data?.text ?? "");
  const settled = useSettled(shown);
  const tried = useQuery({
    queryKey: ["tried", text, feed, settled],
    enabled: text !== "" && feed !== "" && settled.trim() !== "",
    queryFn: () => take(api.POST("/api/v1/connectors/try", { body: { text, feed, sample: settled } })),
    placeholderData: (old) => old,
  });
  if (feeds.in.length + feeds.out.length === 0) return null;
  return (
    <>
      <div className="mt-4 mb-2 flex flex-wrap gap-2" role="group" aria-label="Feed to try">
        {[...feeds.in, ...feeds.out].map((kind) => (
          <Button key={kind} kind={kind === feed ? "main" : "plain"} aria-pressed={kind === feed} onClick={() => setFeed(kind)}>
            {kind}
          </Button>
        ))}
      </div>
      {feed && (
        <div className="grid gap-4 lg:grid-cols-2">
          <section className="min-w-0">
            <h2 className="mb-1">{incoming ? "A record or an answer of theirs" : "A message of ours"}</h2>
            <textarea
              className="field code h-[300px] w-full leading-[18px]!"
              aria-label="Sample"
              spellCheck={false}
              value={shown}
              onChange={(e) => setSample(e.target.value)}
              placeholder={incoming ? "Paste a record, or a whole answer, as the other side gives it." : ""}
            />
          </section>
          <section className="min-w-0 max-h-[330px] overflow-auto" aria-label="What becomes of it" tabIndex={0}>
            <h2 className="mb-1">{incoming ? "In our words" : "What would be sent"}</h2>
            <Trouble error={tried.error} />
            {!good && <p className="mb-1 text-quiet">By what was typed before the mistake.</p>}
            {tried.data && settled.trim() !== "" ? (
              <Outcome tried={tried.data} />
            ) : (
              <p className="text-quiet">What becomes of it stands here.</p>
            )}
          </section>
        </div>
      )}
    </>
  );
}

/** What it would do otherwise is looked at before it is taken. */
function Taking({ text, code, onClose }: { text: string; code: string; onClose: () => void }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const [note, setNote] = useState("");
  const compare = useQuery({
    queryKey: ["compare", text],
    queryFn: () => take(api.POST("/api/v1/connectors/compare", { body: { text } })),
    staleTime: 0,
    retry: false,
  });
  const add = useMutation({
    mutationFn: () => take(api.POST("/api/v1/connectors", { body: { text, note, anyway: true } })),
    onSuccess: (c) => {
      sessionStorage.removeItem(keptAs(code));
      void client.invalidateQueries({ queryKey: ["connectors"] });
      void client.invalidateQueries({ queryKey: ["connector", c.connector] });
      onClose();
      void navigate(code === c.connector ? `/connectors/${c.connector}/edit` : "/connectors");
    },
  });
  const c = compare.data;
  return (
    <Sheet open onClose={onClose} title={c ? `Take the definition of ${c.title}` : "Take the definition"} wide>
      <Trouble error={compare.error ?? add.error} />
      {compare.isPending && <p role="status">Being compared with the records that are kept …</p>}
      {c && (
        <>
          <ComparisonView comparison={c} />
          <div className="mt-4 flex flex-wrap items-end gap-3">
            <Labelled label="What was changed (kept with the version)">
              <input className="field w-80" value={note} maxLength={200} onChange={(e) => setNote(e.target.value)} />
            </Labelled>
            <Button kind="main" onClick={() => add.mutate()} disabled={add.isPending}>
              {differs(c) ? "Take it all the same" : c.version ? `Take it as version ${c.version + 1}` : "Add it"}
            </Button>
          </div>
        </>
      )}
    </Sheet>
  );
}

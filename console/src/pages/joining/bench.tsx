import { joinQuery } from "../../api/queries";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, take } from "../../api/client";
import { Button, Empty, Head, Loading, Sheet, Trouble } from "../../parts/controls";
import { When } from "../../parts/format";
import { Lamp } from "../../parts/lamp";
import { Outcome, pretty } from "./outcome";

/** Where a mapping is tried: a sample is mapped, or a message of ours shown as it would be sent, or sent as a test. */
export default function Bench() {
  const { code = "" } = useParams();
  const client = useQueryClient();
  const q = useQuery(joinQuery(code));
  const past = useQuery({
    queryKey: ["bench", code],
    queryFn: () => take(api.GET("/api/v1/connections/{code}/bench", { params: { path: { code } } })),
  });
  const [feed, setFeed] = useState("");
  const [text, setText] = useState("");
  const [asking, setAsking] = useState(false);
  const again = () => {
    for (const key of ["join", "bench", "connection", "connections", "orders"]) void client.invalidateQueries({ queryKey: [key] });
  };
  const sample = useMutation({
    mutationFn: (kind: string) => take(api.GET("/api/v1/connections/{code}/sample", { params: { path: { code }, query: { feed: kind } } })),
    onSuccess: (s) => setText(pretty(s.text)),
  });
  const run = useMutation({
    mutationFn: (send: boolean) =>
      take(api.POST("/api/v1/connections/{code}/try", { params: { path: { code } }, body: { feed, text, send } })),
    onSettled: again,
  });
  const mode = useMutation({
    mutationFn: (test: boolean) => take(api.PUT("/api/v1/connections/{code}/test-mode", { params: { path: { code } }, body: { test } })),
    onSettled: again,
    onSuccess: () => setAsking(false),
  });
  const clear = useMutation({
    mutationFn: () => take(api.POST("/api/v1/connections/{code}/clear-tests", { params: { path: { code } } })),
    onSettled: again,
  });
  if (q.isPending) return <Loading />;
  if (q.error) return <Trouble error={q.error} />;
  const c = q.data.connection;
  const incoming = c.can.in.includes(feed);
  const choose = (kind: string) => {
    setFeed(kind);
    run.reset();
    sample.mutate(kind);
  };
  return (
    <>
      <Head
        tab={`Bench of ${code}`}
        title={`Bench of ${c.name}`}
        sub={
          <span className="flex flex-wrap gap-x-4">
            <Lamp state={c.test ? "caution" : "go"}>
              {c.test ? "in test: what is sent is marked, no stock moves, orders are not sent" : "live"}
            </Lamp>
            <Link to={`/connections/${code}`} className="underline decoration-rule underline-offset-4">
              To the connection
            </Link>
          </span>
        }
      >
        {c.test ? (
          <>
            <Button onClick={() => clear.mutate()} disabled={clear.isPending}>
              Clear test records
            </Button>
            <Button kind="main" onClick={() => mode.mutate(false)} disabled={mode.isPending}>
              Go live
            </Button>
          </>
        ) : (
          <Button onClick={() => setAsking(true)}>Put in test</Button>
        )}
      </Head>
      <Trouble error={mode.error ?? clear.error ?? sample.error} />
      {clear.data && <p role="status">{clear.data.orders} test orders were removed.</p>}
      <div className="mb-3 flex flex-wrap gap-2" role="group" aria-label="Feed">
        {[...c.can.in, ...c.can.out].map((kind) => (
          <Button key={kind} kind={kind === feed ? "main" : "plain"} onClick={() => choose(kind)}>
            {kind}
          </Button>
        ))}
      </div>
      {!feed && (
        <Empty>
          Choose a feed. For one that comes in, a record of theirs is mapped to ours; for one that goes out, you see exactly what would be
          sent, and can send it marked as a test.
        </Empty>
      )}
      {feed && (
        <div className="lg:grid lg:grid-cols-2 lg:gap-6">
          <section>
            <h2 className="mb-1">{incoming ? "A record of theirs" : "A message of ours"}</h2>
            <textarea
              className="field code h-[420px] w-full leading-[18px]!"
              aria-label="Sample"
              spellCheck={false}
              value={text}
              onChange={(e) => setText(e.target.value)}
              placeholder={incoming ? "Nothing has come in over this feed yet; paste a record as the other side gives it." : ""}
            />
            <p className="mt-2 flex gap-2">
              <Button kind="main" onClick={() => run.mutate(false)} disabled={!text.trim() || run.isPending}>
                {incoming ? "Map it" : "Show what would be sent"}
              </Button>
              {!incoming && (
                <Button
                  onClick={() => run.mutate(true)}
                  disabled={!text.trim() || run.isPending || !c.test}
                  title={c.test ? "" : "Put the connection in test first"}
                >
                  Send as a test
                </Button>
              )}
            </p>
          </section>
          <section className="min-w-0">
            <h2 className="mb-1">{incoming ? "In our words" : "On the line"}</h2>
            <Trouble error={run.error} />
            {run.data ? <Outcome tried={run.data} /> : <p className="text-quiet">What becomes of it stands here.</p>}
          </section>
        </div>
      )}
      <section className="mt-6">
        <h2 className="mb-1">Sent from here</h2>
        {past.data?.length === 0 && <Empty>Nothing was sent from this bench yet.</Empty>}
        {past.data && past.data.length > 0 && (
          <table className="ledger">
            <tbody>
              {past.data.map((b) => (
                <tr key={b.id}>
                  <td>
                    <When at={b.at} />
                  </td>
                  <td>{b.who}</td>
                  <td>{b.feed}</td>
                  <td className="code">
                    {b.exchange.method} {b.exchange.url}
                  </td>
                  <td>
                    {b.error ? (
                      <span className="text-stop">{b.error}</span>
                    ) : (
                      <Lamp state="go">{`answered ${b.exchange.status ?? ""}`}</Lamp>
                    )}
                  </td>
                  <td className="r">
                    <Button
                      kind="quiet"
                      onClick={() => {
                        setFeed(b.feed);
                        setText(pretty(b.message));
                        run.reset();
                      }}
                    >
                      Take up again
                    </Button>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </section>
      <Sheet open={asking} onClose={() => setAsking(false)} title={`Put ${c.name} in test`}>
        <p className="mb-4">
          {c.can.test_flag
            ? `What is sent is marked: ${c.can.test_flag}`
            : `${c.title} cannot be told that something is a test, so nothing is sent to it.`}{" "}
          Orders that come in hold no stock and cannot be sent; they are cleared before the connection goes live again.
        </p>
        <Trouble error={mode.error} />
        <Button kind="main" onClick={() => mode.mutate(true)} disabled={mode.isPending}>
          Put in test
        </Button>
      </Sheet>
    </>
  );
}

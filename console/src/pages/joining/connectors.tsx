import { may, meQuery } from "../../api/queries";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, Problem, take, type Schema } from "../../api/client";
import { Button, Head, Loading, Sheet, Trouble } from "../../parts/controls";
import { Lamp, LampShape } from "../../parts/lamp";
import { Versions } from "./versions";

type Connector = Schema<"Connector">;

const sides = ["channel", "back office", "fulfiller", "carrier", "courier", "address service"];
const plural: Record<string, string> = {
  channel: "Channels",
  "back office": "Back offices",
  fulfiller: "Fulfillers",
  carrier: "Carriers",
  courier: "Couriers",
  "address service": "Address services",
};

export function useConnectors() {
  return useQuery({ queryKey: ["connectors"], queryFn: () => take(api.GET("/api/v1/connectors")) });
}

/** Which systems can be joined, and what each can do, as their definitions say. */
export default function Connectors() {
  const q = useConnectors();
  const me = useQuery(meQuery);
  const [open, setOpen] = useState("");
  const navigate = useNavigate();
  const client = useQueryClient();
  const join = useMutation({
    mutationFn: (c: Connector) => take(api.POST("/api/v1/joins", { body: { connector: c.connector, name: "", code: "", test: false } })),
    onSuccess: (j) => {
      void client.invalidateQueries({ queryKey: ["connections"] });
      void navigate(`/connections/${j.connection.code}/join`);
    },
  });
  const reread = useMutation({
    mutationFn: (anyway: boolean) => take(api.POST("/api/v1/connectors/read-folder", { params: { query: { anyway } } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ["connectors"] }),
  });
  if (q.isPending) return <Loading />;
  const lead = may(me.data, "setup");
  return (
    <>
      <Head
        title="Systems that can be joined"
        sub={
          <Link to="/connections" className="underline decoration-rule underline-offset-4">
            All connections
          </Link>
        }
      >
        {lead && (
          <Button disabled={reread.isPending} onClick={() => reread.mutate(false)}>
            Read the folder anew
          </Button>
        )}
        {lead && <Button onClick={() => void navigate("/connectors/new")}>Add a definition</Button>}
      </Head>
      <Trouble error={q.error ?? join.error ?? reread.error} />
      {reread.error instanceof Problem && reread.error.status === 409 && (
        <p className="my-2">
          <Button onClick={() => reread.mutate(true)} disabled={reread.isPending}>
            Read it all the same
          </Button>
        </p>
      )}
      {reread.data && (
        <p role="status" className="mb-3 text-quiet">
          {folderSays(reread.data)}
        </p>
      )}
      {sides
        .map((side) => [side, (q.data ?? []).filter((c) => c.side === side)] as const)
        .filter(([, list]) => list.length > 0)
        .map(([side, list]) => (
          <section key={side} className="mb-6">
            <h2 className="mb-1">{plural[side]}</h2>
            <table className="ledger table-fixed">
              <colgroup>
                <col className="w-[22%]" />
                <col className="w-[15%]" />
                <col className="w-[18%]" />
                <col className="w-[16%]" />
                <col className="w-[9%]" />
                <col className="w-[9%]" />
                <col className="w-[11%]" />
              </colgroup>
              <thead>
                <tr>
                  <th>System</th>
                  <th>Lets us in by</th>
                  <th>Comes in</th>
                  <th>Goes out</th>
                  <th>Test flag</th>
                  <th>Read back</th>
                  <th />
                </tr>
              </thead>
              <tbody>
                {list.map((c) => (
                  <tr key={c.connector}>
                    <td>
                      <button
                        type="button"
                        className="text-left font-medium underline decoration-rule underline-offset-4"
                        onClick={() => setOpen(c.connector)}
                      >
                        {c.title}
                      </button>
                      <div className="text-[12px] text-quiet">
                        {c.added ? "added here" : "built in"}
                        {c.extends ? `, extends ${c.extends}` : ""}
                        {c.used ? `, joined ${["", "once", "twice"][c.used] ?? `${c.used} times`}` : ""}
                      </div>
                    </td>
                    <td>{c.can.way}</td>
                    <td>{c.can.in.join(", ") || <span className="text-quiet">nothing</span>}</td>
                    <td>
                      {[...c.can.out, ...c.can.calls.filter((x) => x !== "identity").map((x) => `asks: ${x}`)].join(", ") || (
                        <span className="text-quiet">nothing</span>
                      )}
                    </td>
                    <td title={c.can.test_flag}>
                      <Has yes={!!c.can.test_flag} />
                    </td>
                    <td title={c.can.read_back.join(", ")}>
                      <Has yes={c.can.read_back.length > 0} />
                    </td>
                    <td className="r">
                      {lead && (
                        <Button onClick={() => join.mutate(c)} disabled={join.isPending} aria-label={`Join ${c.title}`}>
                          Join
                        </Button>
                      )}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </section>
        ))}
      <Definition code={open} onClose={() => setOpen("")} lead={lead} />
    </>
  );
}

function Has({ yes }: { yes: boolean }) {
  return <Lamp state={yes ? "go" : "idle"}>{yes ? "yes" : "no"}</Lamp>;
}

function Definition({ code, onClose, lead }: { code: string; onClose: () => void; lead: boolean }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const [versions, setVersions] = useState(false);
  const q = useQuery({
    queryKey: ["connector", code],
    enabled: code !== "",
    queryFn: () => take(api.GET("/api/v1/connectors/{code}", { params: { path: { code } } })),
  });
  const drop = useMutation({
    mutationFn: () => take(api.DELETE("/api/v1/connectors/{code}", { params: { path: { code } } })),
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: ["connectors"] });
      onClose();
    },
  });
  return (
    <Sheet open={code !== ""} onClose={onClose} title={q.data?.title ?? code} wide>
      <Trouble error={q.error ?? drop.error} />
      {q.data && (
        <>
          <p className="mb-3 max-w-prose">{q.data.about}</p>
          {q.data.can.test_flag && (
            <p className="mb-3 text-quiet">
              <LampShape state="go" /> {q.data.can.test_flag}
            </p>
          )}
          <pre className="code max-h-[46vh] overflow-auto border-y border-rule py-2 leading-[18px]">{q.data.text}</pre>
          <p className="mt-3 flex flex-wrap gap-3">
            {lead && q.data.added && <Button onClick={() => void navigate(`/connectors/${code}/edit`)}>Change it</Button>}
            {lead && !q.data.added && (
              <Button onClick={() => void navigate(`/connectors/new?extends=${code}`)}>Extend it under another code</Button>
            )}
            {q.data.added && <Button onClick={() => setVersions(true)}>Versions</Button>}
            {lead && q.data.added && (
              <Button onClick={() => drop.mutate()} disabled={drop.isPending}>
                Remove this definition
              </Button>
            )}
          </p>
          <Versions code={code} open={versions} onClose={() => setVersions(false)} />
        </>
      )}
    </Sheet>
  );
}

/** folderSays tells what was found when the folder of definitions was read anew. */
export function folderSays(read: { added: string[] | null; changed: string[] | null; gone: string[] | null }): string {
  const parts = [
    ["added", read.added],
    ["changed", read.changed],
    ["gone", read.gone],
  ] as const;
  const found = parts.filter(([, codes]) => codes?.length).map(([word, codes]) => `${word}: ${codes?.join(", ")}`);
  return found.length ? `The folder was read. ${found.join("; ")}.` : "The folder was read; nothing in it has changed.";
}

import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, take, type Schema } from "../../api/client";
import { Button, Loading, Sheet, Trouble } from "../../parts/controls";
import { AccessForm } from "../../shared/joining/access";
import { Preview } from "../../shared/joining/preview";
import { SettingsForm } from "../../shared/joining/settings";

type Connection = Schema<"Connection">;
type Topic = "settings" | "access" | "preview" | "overrides" | "leave" | null;

/** What is decided about a connection that is at work, and how it is left. */
export function More({ connection, onChanged }: { connection: Connection; onChanged: () => void }) {
  const code = connection.code;
  const [topic, setTopic] = useState<Topic>(null);
  const join = useQuery({
    queryKey: ["join", code],
    enabled: topic !== null,
    queryFn: () => take(api.GET("/api/v1/connections/{code}/join", { params: { path: { code } } })),
  });
  const close = () => {
    setTopic(null);
    onChanged();
    void join.refetch();
  };
  const titles: Record<Exclude<Topic, null>, string> = {
    settings: "Settings",
    access: `Renew the access to ${connection.title}`,
    preview: "What sending stock changes",
    overrides: "Overrides of the connector",
    leave: `Leave ${connection.name}`,
  };
  return (
    <section className="mb-7">
      <h2 className="mb-2">Decided here</h2>
      <div className="flex flex-wrap gap-2">
        <Button onClick={() => setTopic("settings")}>Settings</Button>
        <Button onClick={() => setTopic("access")}>Renew access</Button>
        {connection.can.out.includes("stock out") && <Button onClick={() => setTopic("preview")}>What sending stock changes</Button>}
        <Button onClick={() => setTopic("overrides")}>Overrides{connection.overrides ? " (some)" : ""}</Button>
        <Button onClick={() => setTopic("leave")}>Leave</Button>
      </div>
      <Sheet open={topic !== null} onClose={() => setTopic(null)} title={topic ? titles[topic] : ""} wide>
        {join.isPending && <Loading />}
        <Trouble error={join.error} />
        {join.data && topic === "settings" && <SettingsForm join={join.data} onSaved={close} verb="Keep" />}
        {join.data && topic === "access" && <AccessForm join={join.data} onDone={(ok) => ok && close()} renew />}
        {topic === "preview" && <Preview code={code} onSeen={onChanged} />}
        {join.data && topic === "overrides" && <Overrides connection={join.data.connection} onSaved={close} />}
        {topic === "leave" && <Leave code={code} name={connection.name} />}
      </Sheet>
    </section>
  );
}

function Overrides({ connection, onSaved }: { connection: Connection; onSaved: () => void }) {
  const [text, setText] = useState(connection.overrides ?? "");
  const save = useMutation({
    mutationFn: () =>
      take(
        api.PUT("/api/v1/connections/{code}/overrides", {
          params: { path: { code: connection.code }, header: { "If-Match": `"${connection.revision}"` } },
          body: { overrides: text },
        }),
      ),
    onSuccess: onSaved,
  });
  return (
    <>
      <p className="mb-2 max-w-prose text-quiet">
        A part of a definition, laid over that of {connection.title} for this connection only: another field, another table, another
        schedule. An empty text takes all away.
      </p>
      <textarea
        className="field code h-64 w-full"
        aria-label="Overrides"
        spellCheck={false}
        value={text}
        onChange={(e) => setText(e.target.value)}
        placeholder={"feeds:\n  orders in:\n    map: { note: item.gift_note }"}
      />
      <Trouble error={save.error} />
      <p className="mt-3">
        <Button kind="main" onClick={() => save.mutate()} disabled={save.isPending}>
          Keep
        </Button>
      </p>
    </>
  );
}

function Leave({ code, name }: { code: string; name: string }) {
  const navigate = useNavigate();
  const q = useQuery({
    queryKey: ["leave", code],
    queryFn: () => take(api.GET("/api/v1/connections/{code}/leave", { params: { path: { code } } })),
  });
  const leave = useMutation({
    mutationFn: () => take(api.POST("/api/v1/connections/{code}/leave", { params: { path: { code } } })),
    onSuccess: () => void navigate("/connections"),
  });
  if (q.isPending) return <Loading />;
  return (
    <>
      <Trouble error={q.error ?? leave.error} />
      <div className="mb-4 grid gap-6 sm:grid-cols-2">
        {(
          [
            ["Is removed", q.data?.removed],
            ["Stays", q.data?.stays],
          ] as const
        ).map(([title, list]) => (
          <div key={title}>
            <h3 className="mb-1 font-semibold">{title}</h3>
            <ul className="border-t border-rule">
              {list?.map((s) => (
                <li key={s} className="border-b border-rule py-1.5">
                  {s}
                </li>
              ))}
            </ul>
          </div>
        ))}
      </div>
      <Button kind="main" onClick={() => leave.mutate()} disabled={leave.isPending}>
        Leave {name}
      </Button>
    </>
  );
}

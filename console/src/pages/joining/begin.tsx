import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, take, type Schema } from "../../api/client";
import { Button, Head, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";

const sides = ["channel", "back office", "fulfiller", "carrier", "courier"];
const ways: Record<string, string> = {
  "": "as its document says, else a token",
  token: "a token",
  key: "a key",
  password: "a name and a password",
  client: "OAuth, client credentials",
  consent: "OAuth, a consent page",
  files: "files, in a folder, by SFTP or over HTTP (WebDAV)",
  inbound: "it calls us, with a key that we hand out",
};
const kinds = ["", "orders in", "listings in", "items in", "customers in", "stock in", "dispatch in", "tracking in", "returns in"];

/** A first definition is begun: from a few words, an answer of the system, its OpenAPI document, or a text that is there already. */
export function BeginDefinition({ onBegun }: { onBegun: (d: { text: string; open: string[] }) => void }) {
  const [wish, setWish] = useState<Schema<"DraftWish">>({ code: "", side: "channel" });
  const [feed, setFeed] = useState({ kind: "", path: "", sample: "" });
  const set = (to: Partial<Schema<"DraftWish">>) => setWish((w) => ({ ...w, ...to }));
  const draft = useMutation({
    mutationFn: () => take(api.POST("/api/v1/connectors/draft", { body: { ...wish, feeds: feed.kind ? [feed] : [] } })),
    onSuccess: onBegun,
  });
  return (
    <>
      <Head
        title="A new definition"
        sub={
          <Link to="/connectors" className="underline decoration-rule underline-offset-4">
            All systems
          </Link>
        }
      />
      <p className="mb-4 max-w-prose text-quiet">
        A definition teaches the relay to speak to one kind of system. Say what you know: a first one is written for you, and you see what
        is left to say.
      </p>
      <form
        className="grid max-w-4xl gap-4 sm:grid-cols-2"
        onSubmit={(e) => {
          e.preventDefault();
          draft.mutate();
        }}
      >
        <Labelled label="Code" help="Small letters, digits and -; it is how the relay names it.">
          <input className="field w-full" required value={wish.code} onChange={(e) => set({ code: e.target.value })} />
        </Labelled>
        <Labelled label="What people call it">
          <input className="field w-full" value={wish.title ?? ""} onChange={(e) => set({ title: e.target.value })} />
        </Labelled>
        <Labelled label="Which side it is">
          <Select value={wish.side ?? ""} onChange={(side) => set({ side })} options={sides.map((s) => [s, s])} />
        </Labelled>
        <Labelled label="How it lets us in">
          <Select value={wish.way ?? ""} onChange={(way) => set({ way })} options={Object.entries(ways)} />
        </Labelled>
        <Labelled label="Address" help="Where it is reached, where that is the same for everybody.">
          <input className="field w-full" value={wish.address ?? ""} onChange={(e) => set({ address: e.target.value })} />
        </Labelled>
        {(wish.way === "token" || wish.way === "key") && (
          <Labelled label="Header that carries it">
            <input className="field w-full" value={wish.header ?? ""} onChange={(e) => set({ header: e.target.value })} />
          </Labelled>
        )}
        <fieldset className="grid gap-4 sm:col-span-2 sm:grid-cols-2">
          <legend className="mb-1 font-semibold">What comes in, with an answer of the system</legend>
          <Labelled label="Feed">
            <Select
              value={feed.kind}
              onChange={(kind) => setFeed((f) => ({ ...f, kind }))}
              options={kinds.map((k) => [k, k || "nothing yet"])}
            />
          </Labelled>
          <Labelled label="Where it is listed" help="A path such as /orders; of files the folder.">
            <input className="field w-full" value={feed.path} onChange={(e) => setFeed((f) => ({ ...f, path: e.target.value }))} />
          </Labelled>
          <Labelled label="What it answers there: JSON, XML or CSV" wide>
            <textarea
              className="field code h-40 w-full"
              spellCheck={false}
              value={feed.sample}
              onChange={(e) => setFeed((f) => ({ ...f, sample: e.target.value }))}
            />
          </Labelled>
        </fieldset>
        <Labelled label="Its OpenAPI document, where it has one (version 3, JSON or YAML)" wide>
          <input
            type="file"
            accept=".json,.yaml,.yml"
            onChange={(e) => {
              const file = e.target.files?.[0];
              if (file) void file.text().then((openapi) => set({ openapi }));
            }}
          />
        </Labelled>
        <div className="sm:col-span-2">
          <Trouble error={draft.error} />
          <p className="flex flex-wrap gap-3">
            <Button kind="main" type="submit" disabled={draft.isPending}>
              Write a first definition
            </Button>
            <Button onClick={() => onBegun({ text: "connector: \n", open: [] })}>Begin with an empty page</Button>
            <label className="inline-flex items-center gap-2">
              <span>or take one from a file</span>
              <input
                type="file"
                accept=".yaml,.yml"
                aria-label="File with a definition"
                onChange={(e) => {
                  const file = e.target.files?.[0];
                  if (file) void file.text().then((text) => onBegun({ text, open: [] }));
                }}
              />
            </label>
          </p>
        </div>
      </form>
    </>
  );
}

function Select({ value, onChange, options }: { value: string; onChange: (to: string) => void; options: string[][] }) {
  return (
    <select className="field w-full" value={value} onChange={(e) => onChange(e.target.value)}>
      {options.map(([v, text]) => (
        <option key={v} value={v}>
          {text}
        </option>
      ))}
    </select>
  );
}

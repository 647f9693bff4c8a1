import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, take, type Schema } from "../../api/client";
import { Button, Empty, Loading, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import { count } from "../../parts/format";
import { KeptForm, KeptList } from "../../shared/company/kept";
import { SettingsPage } from "../../shared/company/settingspage";
import { RoundRules } from "./roundrules";
import { codeOf, NameAndCode } from "../../shared/company/named";

type Profile = Schema<"KeptProfile">;
type Series = Schema<"Series">;

/** What parcels are packed in, and how things are numbered. */
export default function Parcels() {
  return (
    <SettingsPage
      kinds={["profile", "number series", "round rule"]}
      title="Parcels and numbers"
      sub="What parcels are packed in, and how orders and shipments are numbered"
      needs="setup"
      about="What parcels are packed in"
    >
      <Profiles />
      <RoundRules />
      <Numbers />
    </SettingsPage>
  );
}

const profilesKey = ["kept profiles"];

function Profiles() {
  const client = useQueryClient();
  return (
    <KeptList<Profile>
      query={useQuery({ queryKey: profilesKey, queryFn: () => take(api.GET("/api/v1/kept-profiles")) })}
      texts={{
        title: "Parcel profiles",
        about: "Cartons, bags and tubes with their size and weight. Packers choose one; carriers are asked for prices by it.",
        add: "Add a profile",
        addFirst: "Add the first",
        none: "No profile yet. Without one nothing can be packed: measure the carton that you use most.",
        one: "A parcel profile",
        name: "Name",
      }}
      columns={[
        {
          title: "Length × width × height",
          kind: "r fig",
          cell: (p) => (
            <>
              {count(p.length_mm)} × {count(p.width_mm)} × {count(p.height_mm)} <span className="text-quiet">mm</span>
            </>
          ),
        },
        { title: "Holds", kind: "r fig", cell: (p) => <Grams n={p.max_g} /> },
        { title: "Tare", kind: "r fig", cell: (p) => <Grams n={p.tare_g} /> },
        { title: "Service", kind: "code", cell: (p) => p.service },
      ]}
      archive={(p) =>
        take(api.POST("/api/v1/profiles/{code}/archive", { params: { path: { code: p.code } }, body: { archived: !p.archived_at } }))
      }
      onList={(list) => {
        client.setQueryData(profilesKey, list);
        void client.invalidateQueries({ queryKey: ["profiles"] });
      }}
      form={(was, onDone) => <ProfileForm was={was} onDone={onDone} />}
    />
  );
}

function Grams({ n }: { n: number }) {
  return (
    <>
      {count(n)} <span className="text-quiet">g</span>
    </>
  );
}

const measures = [
  ["length_mm", "Length, mm"],
  ["width_mm", "Width, mm"],
  ["height_mm", "Height, mm"],
  ["max_g", "Holds at most, g"],
  ["tare_g", "Weight of carton and filling, g"],
] as const;

function ProfileForm({ was, onDone }: { was?: Profile; onDone: (list: Profile[]) => void }) {
  const [name, setName] = useState(was?.name ?? "");
  const [code, setCode] = useState(was?.code ?? "");
  const [service, setService] = useState(was?.service ?? "");
  const [sizes, setSizes] = useState(() => Object.fromEntries(measures.map(([key]) => [key, was ? String(was[key]) : ""])));
  const size = (key: (typeof measures)[number][0]) => Number(sizes[key] || 0);
  const put = useMutation({
    mutationFn: () =>
      take(
        api.PUT("/api/v1/profiles/{code}", {
          params: { path: { code: was?.code ?? (code || codeOf(name)) } },
          body: {
            name,
            service: service || undefined,
            length_mm: size("length_mm"),
            width_mm: size("width_mm"),
            height_mm: size("height_mm"),
            max_g: size("max_g"),
            tare_g: size("tare_g"),
          },
        }),
      ),
    onSuccess: onDone,
  });
  return (
    <KeptForm error={put.error} busy={put.isPending} add="Add" was={!!was} onSubmit={() => put.mutate()}>
      <NameAndCode name={name} code={code} fixed={!!was} onName={setName} onCode={setCode} />
      {measures.map(([key, label]) => (
        <Labelled key={key} label={label}>
          <input
            className="field fig w-full"
            type="number"
            min={key === "tare_g" ? 0 : 1}
            required
            value={sizes[key]}
            onChange={(e) => setSizes({ ...sizes, [key]: e.target.value })}
          />
        </Labelled>
      ))}
      <Labelled label="Service proposed for it" help="Code of a carrier's service; may stay empty">
        <input className="field code w-full" maxLength={120} value={service} onChange={(e) => setService(e.target.value)} />
      </Labelled>
    </KeptForm>
  );
}

const seriesKey = ["series"];

function Numbers() {
  const client = useQueryClient();
  const q = useQuery({ queryKey: seriesKey, queryFn: () => take(api.GET("/api/v1/series")) });
  return (
    <section aria-label="Number series">
      <h2>Number series</h2>
      <p className="mb-2 max-w-prose text-quiet">
        What numbers begin with, and which comes next. A number is never given twice; what has one keeps it.
      </p>
      <Trouble error={q.error} />
      {q.isPending && <Loading />}
      {q.data?.length === 0 && <Empty>Nothing is numbered yet. The series of orders appears here with the first one.</Empty>}
      <div className="flex flex-col gap-2">
        {q.data?.map((s) => (
          <OneSeries key={s.code} s={s} onDone={(list) => client.setQueryData(seriesKey, list)} />
        ))}
      </div>
    </section>
  );
}

function OneSeries({ s, onDone }: { s: Series; onDone: (list: Series[]) => void }) {
  const [prefix, setPrefix] = useState(s.prefix);
  const [next, setNext] = useState(String(s.next));
  const put = useMutation({
    mutationFn: () => take(api.PUT("/api/v1/series/{code}", { params: { path: { code: s.code } }, body: { prefix, next: Number(next) } })),
    onSuccess: onDone,
  });
  const changed = prefix !== s.prefix || next !== String(s.next);
  return (
    <form
      className="flex flex-wrap items-end gap-3"
      onSubmit={(e) => {
        e.preventDefault();
        put.mutate();
      }}
    >
      <span className="w-28 pb-1.5 font-medium">{s.code}</span>
      <Labelled label={`Prefix of ${s.code}`}>
        <input className="field code w-36" maxLength={12} value={prefix} onChange={(e) => setPrefix(e.target.value)} />
      </Labelled>
      <Labelled label={`Next of ${s.code}`}>
        <input
          className="field fig w-36"
          type="number"
          min={1}
          max={999999999}
          required
          value={next}
          onChange={(e) => setNext(e.target.value)}
        />
      </Labelled>
      <span className="pb-1.5 text-quiet">
        such as{" "}
        <span className="code">
          {prefix}
          {next}
        </span>
      </span>
      {changed && (
        <Button type="submit" disabled={put.isPending}>
          Keep the change
        </Button>
      )}
      <Trouble error={put.error} />
    </form>
  );
}

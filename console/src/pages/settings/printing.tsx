import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, take, type Schema } from "../../api/client";
import { locationsQuery } from "../../api/queries";
import { Button, Empty, Trouble } from "../../parts/controls";
import { When } from "../../parts/format";
import { Lamp } from "../../parts/lamp";
import { RowTable } from "../../shared/company/rowtable";
import { SettingsPage } from "../../shared/company/settingspage";

type Printer = Schema<"RelayPrinter">;

/** Printers with names, and what waits for them. */
export default function Printing() {
  return (
    <SettingsPage
      kinds={["printers"]}
      title="Printing"
      sub="Printers by name, and what waits for them"
      needs="setup"
      about="Which printers there are"
    >
      <Printers />
      <Queue />
    </SettingsPage>
  );
}

const sizes = [
  ["label", "100 × 150 mm"],
  ["a4", "A4, four a sheet"],
  ["roll", "80 mm"],
] as const;

const papers = ["label", "packing slip", "customs papers", "manifest"];

function Printers() {
  const client = useQueryClient();
  const places = (useQuery(locationsQuery).data ?? []).map((l) => [l.code, l.name] as const);
  const test = useMutation({
    mutationFn: (code: string) => take(api.POST("/api/v1/printers/{code}/test", { params: { path: { code } } })),
    onSettled: () => void client.invalidateQueries({ queryKey: ["print-queue"] }),
  });
  return (
    <>
      <RowTable<Printer>
        name="printers"
        texts={{
          title: "Printers",
          about:
            "Reached by the Internet Printing Protocol (IPP). What is bought at a place is printed on its printer; a printer that is off " +
            "keeps what waits for it. Papers can always be saved instead.",
          add: "Add a printer",
          none: "No printer yet: papers open as PDF. Name one, and labels come out where parcels are packed.",
          one: "A printer",
        }}
        columns={[
          { title: "Code", cell: (p) => <span className="code">{p.code}</span> },
          { title: "Name", cell: (p) => p.name },
          { title: "Place", cell: (p) => places.find(([c]) => c === p.place)?.[1] ?? <span className="text-quiet">anywhere</span> },
          { title: "Prints", cell: (p) => [...(p.papers ?? [])].join(", ") + (p.auto ? "; labels by itself" : "") },
          { title: "Labels on", cell: (p) => sizes.find(([s]) => s === (p.size || "label"))?.[1] },
          {
            title: "Test",
            cell: (p) => (
              <Button kind="quiet" disabled={test.isPending} onClick={() => test.mutate(p.code)}>
                Print a test page
              </Button>
            ),
          },
        ]}
        nameOf={(p) => p.name || p.code}
        blank={{ code: "", name: "", address: "ipp://", papers: ["label"] }}
        get={() => take(api.GET("/api/v1/printers"))}
        put={(rows) => take(api.PUT("/api/v1/printers", { body: { rows } }))}
        fields={[
          { key: "name", label: "Name", required: true },
          { key: "code", label: "Code", help: "Small letters, digits and -.", required: true },
          { key: "address", label: "Address", help: "Such as ipp://printer.example:631/printers/bench.", required: true, wide: true },
          { key: "place", label: "Place", kind: "choice", options: [["", "anywhere"], ...places] },
          { key: "size", label: "Labels on", kind: "choice", options: sizes },
          {
            key: "language",
            label: "Takes unchanged",
            kind: "choice",
            options: [
              ["", "PDF alone"],
              ["zpl", "ZPL"],
              ["epl", "EPL"],
            ],
            help: "A printer's language in which carriers make labels.",
          },
          { key: "auto", label: "Prints labels as soon as they are bought", kind: "switch" },
        ]}
        more={(row, set) => (
          <fieldset className="sm:col-span-2">
            <legend className="mb-1 text-[12px] text-quiet">What it prints where nobody names a printer</legend>
            <span className="flex flex-wrap gap-4">
              {papers.map((p) => (
                <label key={p} className="flex items-center gap-2">
                  <input
                    type="checkbox"
                    checked={(row.papers ?? []).includes(p)}
                    onChange={(e) => set({ papers: papers.filter((x) => (x === p ? e.target.checked : (row.papers ?? []).includes(x))) })}
                  />
                  {p}
                </label>
              ))}
            </span>
          </fieldset>
        )}
      />
      <Trouble error={test.error} />
    </>
  );
}

/** What waits to be printed, and what was printed last. */
function Queue() {
  const client = useQueryClient();
  const key = ["print-queue"];
  const q = useQuery({ queryKey: key, queryFn: () => take(api.GET("/api/v1/print-queue", { params: { query: { limit: 50 } } })) });
  const out = useMutation({
    mutationFn: (id: number) => take(api.DELETE("/api/v1/print-queue/{id}", { params: { path: { id } } })),
    onSettled: () => void client.invalidateQueries({ queryKey: key }),
  });
  return (
    <section aria-label="What waits">
      <h2 className="mb-1">What waits, and what was printed last</h2>
      <Trouble error={q.error ?? out.error} />
      {q.data?.length === 0 && <Empty>Nothing was printed yet.</Empty>}
      {!!q.data?.length && (
        <table className="ledger">
          <tbody>
            {q.data.map((j) => (
              <tr key={j.id}>
                <td className="w-56">
                  <Lamp state={j.state === "waiting" ? (j.error ? "caution" : "busy") : j.error ? "stop" : "idle"}>
                    {j.state === "waiting" ? "waits" : j.error ? "not printed" : "printed"}
                  </Lamp>
                </td>
                <td>
                  {j.about}
                  {j.error && <div className="text-[12px] text-quiet">{j.error}</div>}
                </td>
                <td className="w-40">{j.who}</td>
                <td className="w-44">
                  <When at={j.ended_at ?? j.created_at} />
                </td>
                <td className="r">
                  {j.state === "waiting" && (
                    <Button kind="quiet" disabled={out.isPending} onClick={() => out.mutate(j.id)}>
                      Take it out
                    </Button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  );
}

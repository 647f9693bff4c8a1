import { LastChange } from "../../shared/company/lastchange";
import { connectionsQuery, companyQuery, keptLocationsQuery, may, meQuery } from "../../api/queries";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, take, type Schema } from "../../api/client";
import { Button, Empty, Head, Loading, Sheet, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import { When } from "../../parts/format";
import { Lamp } from "../../parts/lamp";
import { Rail, settingsStops } from "../../parts/rail";
import { codeOf, NameAndCode } from "../../shared/company/named";
import { addressFields } from "../../shared/address/fields";
import { daysOffOf, daysOffText, HoursFields, type Hours } from "./hours";

type Place = Schema<"Location">;
type Address = NonNullable<Place["address"]>;

const noAddress = (country: string): Address => ({ name: "", street: "", postcode: "", town: "", country });

/** The places that hold stock: what they are called, where they are, and whose word counts there. */
export default function Places() {
  const me = useQuery(meQuery);
  const places = useQuery(keptLocationsQuery);
  const company = useQuery(companyQuery);
  const [edit, setEdit] = useState<Place | "new" | null>(null);
  const lead = may(me.data, "setup");
  const client = useQueryClient();
  const archive = useMutation({
    mutationFn: (p: Place) =>
      take(api.POST("/api/v1/locations/{code}/archive", { params: { path: { code: p.code } }, body: { archived: !p.archived_at } })),
    onSuccess: (list) => {
      client.setQueryData(keptLocationsQuery.queryKey, list);
      void client.invalidateQueries({ queryKey: ["board"] });
    },
  });
  if (places.isPending || company.isPending || me.isPending) return <Loading />;
  return (
    <>
      <Head title="Places" sub="What holds stock, and where parcels leave from">
        {lead && (
          <Button kind="main" onClick={() => setEdit("new")}>
            Add a place
          </Button>
        )}
      </Head>
      <Rail label="Settings" stops={settingsStops} />
      <Trouble error={places.error ?? company.error ?? archive.error} />
      <LastChange kinds={["place"]} />
      {places.data?.length === 0 && (
        <Empty>No place yet. Stock lies at a place, and parcels leave from one: a warehouse, a shop, a kitchen. Add the first.</Empty>
      )}
      {places.data && places.data.length > 0 && (
        <table className="ledger">
          <thead>
            <tr>
              <th>Place</th>
              <th>Code</th>
              <th>Address</th>
              <th>Its stock is kept by</th>
              <th>Today</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {places.data.map((p) => (
              <tr key={p.code} className={p.archived_at ? "text-quiet" : ""}>
                <td className="font-medium">
                  {p.name}
                  {p.archived_at && (
                    <div className="font-normal">
                      <Lamp state="idle">
                        used no more since <When at={p.archived_at} />
                      </Lamp>
                    </div>
                  )}
                  {p.warnings?.map((w) => (
                    <div key={w} className="font-normal">
                      <Lamp state="caution">{w}</Lamp>
                    </div>
                  ))}
                </td>
                <td className="code">{p.code}</td>
                <td>{p.address ? oneLine(p.address) : <span className="text-caution">none yet; carriers want one</span>}</td>
                <td>{p.keeper || "us"}</td>
                <td>{p.today || <span className="text-quiet">no hours said</span>}</td>
                <td>
                  {lead && (
                    <div className="-my-1 flex justify-end gap-4 whitespace-nowrap">
                      {!p.archived_at && (
                        <Button kind="quiet" aria-label={`Change ${p.name}`} onClick={() => setEdit(p)}>
                          Change
                        </Button>
                      )}
                      <Button
                        kind="quiet"
                        aria-label={p.archived_at ? `Use again: ${p.name}` : `Use no more: ${p.name}`}
                        onClick={() => archive.mutate(p)}
                      >
                        {p.archived_at ? "Use again" : "Use no more"}
                      </Button>
                    </div>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <Sheet open={edit !== null} onClose={() => setEdit(null)} title={edit === "new" ? "A place" : (edit?.name ?? "")} wide>
        {edit && <Form was={edit === "new" ? undefined : edit} country={company.data?.country ?? ""} onDone={() => setEdit(null)} />}
      </Sheet>
    </>
  );
}

const oneLine = (a: Address) => [a.company, a.street, a.extra, `${a.postcode} ${a.town}`, a.country].filter((x) => x?.trim()).join(", ");

function Form({ was, country, onDone }: { was?: Place; country: string; onDone: () => void }) {
  const client = useQueryClient();
  const connections = useQuery(connectionsQuery);
  const [name, setName] = useState(was?.name ?? "");
  const [code, setCode] = useState(was?.code ?? "");
  const [keeper, setKeeper] = useState(was?.keeper ?? "");
  const [address, setAddress] = useState<Address>(was?.address ?? noAddress(country));
  const [hours, setHours] = useState<Hours | undefined>(was?.hours);
  const [off, setOff] = useState(daysOffText(was?.hours?.days_off));
  const [position, setPosition] = useState(was?.position ?? "");
  const [bins, setBins] = useState(was?.bins ?? "");
  const said = addressFields.some(([key]) => key !== "country" && address[key]?.trim());
  const save = useMutation({
    mutationFn: () =>
      take(
        api.PUT("/api/v1/locations/{code}", {
          params: { path: { code: was?.code ?? (code || codeOf(name)) } },
          body: {
            name,
            keeper: keeper || undefined,
            address: said ? address : undefined,
            hours: hours ? { ...hours, days_off: daysOffOf(off) } : was?.hours ? {} : undefined,
            position: position === (was?.position ?? "") ? undefined : position,
            bins: bins === (was?.bins ?? "") ? undefined : bins,
          },
        }),
      ),
    onSuccess: () => {
      for (const key of ["locations", "board", "stock", "first-day"]) void client.invalidateQueries({ queryKey: [key] });
      onDone();
    },
  });
  const keepers = connections.data?.filter((c) => c.state === "on" && c.feeds.some((f) => f.kind === "stock in")) ?? [];
  return (
    <form
      className="grid grid-cols-2 gap-3"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate();
      }}
    >
      <NameAndCode name={name} code={code} fixed={!!was} onName={setName} onCode={setCode} />
      {addressFields.map(([key, label]) => (
        <Labelled key={key} label={key === "name" ? "Name on labels" : label}>
          <input
            className="field w-full"
            placeholder={key === "name" ? name : ""}
            value={address[key] ?? ""}
            onChange={(e) => setAddress({ ...address, [key]: e.target.value })}
          />
        </Labelled>
      ))}
      {keepers.length > 0 && (
        <Labelled label="Whose count of its stock is right" wide>
          <select className="field w-full" value={keeper} onChange={(e) => setKeeper(e.target.value)}>
            <option value="">ours</option>
            {keepers.map((c) => (
              <option key={c.code} value={c.code}>
                {c.name}
              </option>
            ))}
          </select>
        </Labelled>
      )}
      <AddressCheck address={address} name={name} onTake={setAddress} />
      <HoursFields value={hours} off={off} onChange={setHours} onOff={setOff} />
      <Labelled
        label="Position"
        help="Latitude, longitude; for the way to buyers. Empty: a new address is looked up, where an address service is joined"
        wide
      >
        <input className="field w-full" value={position} onChange={(e) => setPosition(e.target.value)} />
      </Labelled>
      <Labelled
        label="Bins, one a line"
        help="In the order in which they are walked. A pattern stands for many: A-[01-12]-[1-5]. Empty: any bin that is written"
        wide
      >
        <textarea className="field code h-24 w-full" value={bins} onChange={(e) => setBins(e.target.value)} />
      </Labelled>
      <div className="col-span-2 flex flex-col gap-3">
        <Trouble error={save.error} />
        <Button kind="main" type="submit" disabled={save.isPending}>
          {was ? "Keep the change" : "Add the place"}
        </Button>
      </div>
    </form>
  );
}

/** Where an address service is joined, it is asked about the address; nothing is changed before somebody takes it. */
function AddressCheck({ address, name, onTake }: { address: Address; name: string; onTake: (a: Address) => void }) {
  const connections = useQuery(connectionsQuery);
  const check = useMutation({
    mutationFn: () => take(api.POST("/api/v1/address-check", { body: { ...address, name: address.name || name || "-" } })),
  });
  const joined = connections.data?.some((c) => c.state === "on" && c.side === "address service");
  if (!joined) return null;
  const said = check.data;
  return (
    <div className="col-span-2 flex flex-wrap items-center gap-3">
      <Button disabled={check.isPending || !address.street || !address.town} onClick={() => check.mutate()}>
        Ask the address service
      </Button>
      <Trouble error={check.error} />
      {said && (
        <span role="status" className="flex items-center gap-3">
          <Lamp state={said.deliverable ? (said.note ? "caution" : "go") : "stop"}>
            {said.deliverable ? said.note || "parcels arrive there as it is written" : said.note || "nothing can be delivered there"}
          </Lamp>
          {said.deliverable && said.note && (
            <Button kind="quiet" onClick={() => onTake({ ...address, ...said.corrected, name: address.name, phone: address.phone })}>
              Take {oneLine(said.corrected)}
            </Button>
          )}
        </span>
      )}
    </div>
  );
}

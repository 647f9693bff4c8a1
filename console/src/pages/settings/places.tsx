import { connectionsQuery, companyQuery, locationsQuery, may, meQuery } from "../../api/queries";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, take, type Schema } from "../../api/client";
import { Button, Empty, Head, Loading, Sheet, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import { Rail, settingsStops } from "../../parts/rail";
import { codeOf, NameAndCode } from "../../shared/company/named";
import { addressFields } from "../../shared/address/fields";

type Place = Schema<"Location">;
type Address = NonNullable<Place["address"]>;

const noAddress = (country: string): Address => ({ name: "", street: "", postcode: "", town: "", country });

/** The places that hold stock: what they are called, where they are, and whose word counts there. */
export default function Places() {
  const me = useQuery(meQuery);
  const places = useQuery(locationsQuery);
  const company = useQuery(companyQuery);
  const [edit, setEdit] = useState<Place | "new" | null>(null);
  const lead = may(me.data, "setup");
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
      <Trouble error={places.error ?? company.error} />
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
              <th />
            </tr>
          </thead>
          <tbody>
            {places.data.map((p) => (
              <tr key={p.code}>
                <td className="font-medium">{p.name}</td>
                <td className="code">{p.code}</td>
                <td>{p.address ? oneLine(p.address) : <span className="text-caution">none yet; carriers want one</span>}</td>
                <td>{p.keeper || "us"}</td>
                <td className="r">
                  {lead && (
                    <Button kind="quiet" aria-label={`Change ${p.name}`} onClick={() => setEdit(p)}>
                      Change
                    </Button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <Sheet open={edit !== null} onClose={() => setEdit(null)} title={edit === "new" ? "A place" : (edit?.name ?? "")}>
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
  const said = addressFields.some(([key]) => key !== "country" && address[key]?.trim());
  const save = useMutation({
    mutationFn: () =>
      take(
        api.PUT("/api/v1/locations/{code}", {
          params: { path: { code: was?.code ?? (code || codeOf(name)) } },
          body: { name, keeper: keeper || undefined, address: said ? address : undefined },
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
      <div className="col-span-2 flex flex-col gap-3">
        <Trouble error={save.error} />
        <Button kind="main" type="submit" disabled={save.isPending}>
          {was ? "Keep the change" : "Add the place"}
        </Button>
      </div>
    </form>
  );
}

import { companyQuery, optionGroupsQuery, ownersQuery, priceListsQuery } from "../../api/queries";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { useNavigate, useParams } from "react-router";
import { api, take, type Schema } from "../../api/client";
import { Button, Head, Loading, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import { minorOf, typedAmount } from "../../parts/format";

type Item = Schema<"CatalogItem">;

const fresh: Item = { sku: "", name: "", kind: "stocked" };

/** A new item, or the record of one that is there. */
export default function Edit() {
  const { sku } = useParams();
  const q = useQuery({
    queryKey: ["item", sku, "record"],
    enabled: !!sku,
    staleTime: Infinity,
    gcTime: 0,
    queryFn: () => take(api.GET("/api/v1/items/{sku}/record", { params: { path: { sku: sku! } } })),
  });
  const company = useQuery({ ...companyQuery, enabled: !sku });
  if (sku ? q.isPending : company.isPending) return <Loading />;
  if (q.error) return <Trouble error={q.error} />;
  return <Form was={q.data ?? { ...fresh, currency: company.data?.currency ?? "EUR" }} isNew={!sku} />;
}

function Form({ was, isNew }: { was: Item; isNew: boolean }) {
  const navigate = useNavigate();
  const client = useQueryClient();
  const [it, setIt] = useState<Item>(was);
  const [price, setPrice] = useState(was.price ? typedAmount(was.price, was.currency ?? "EUR") : "");
  const [parts, setParts] = useState((was.parts ?? []).map((p) => `${p.quantity} ${p.sku}`).join("\n"));
  const owners = useQuery(ownersQuery);
  const lists = useQuery(priceListsQuery);
  const [listed, setListed] = useState<Record<string, string>>({}); // prices by list, as they are typed
  const groups = useQuery(optionGroupsQuery);
  const save = useMutation({
    mutationFn: () => {
      const body: Item = {
        ...it,
        price: minorOf(price, it.currency ?? "EUR"),
        prices: (lists.data ?? []).flatMap((l) => {
          const typed = inList(l.code, l.currency);
          return typed.trim() ? [{ list: l.code, price: minorOf(typed, l.currency) }] : [];
        }),
        parts:
          it.kind === "kit"
            ? parts
                .split("\n")
                .map((l) => l.trim())
                .filter(Boolean)
                .map((l) => {
                  const [n, ...rest] = l.split(/[\s×x*]+/);
                  return { quantity: Number(n), sku: rest.join(" ") };
                })
            : undefined,
        groups: it.kind === "prepared" ? it.groups : undefined,
      };
      return isNew
        ? take(api.POST("/api/v1/items", { body }))
        : take(
            api.PUT("/api/v1/items/{sku}/record", {
              params: { path: { sku: was.sku }, header: { "If-Match": `"${was.revision}"` } },
              body,
            }),
          );
    },
    onSuccess: (saved) => {
      for (const k of ["item", "items", "stock", "listings"]) void client.invalidateQueries({ queryKey: [k] });
      void navigate(`/items/${encodeURIComponent(saved.sku)}`);
    },
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    save.mutate();
  };
  const put = (part: Partial<Item>) => setIt({ ...it, ...part });
  const owned = (f: string) => (owners.data?.[f] === "ours" ? undefined : owners.data?.[f]);
  const help = (f: string, text?: string) => (owned(f) ? `The word of ${owned(f)} counts; change it there.` : text);
  const inList = (code: string, currency: string) => {
    const p = it.prices?.find((x) => x.list === code);
    return listed[code] ?? (p ? typedAmount(p.price, currency) : "");
  };
  type TextKey = "sku" | "name" | "family" | "options" | "gtin" | "category" | "description" | "customs_code" | "origin" | "tax_class";
  const text = (f: TextKey) => ({
    value: it[f] ?? "",
    disabled: !!owned(f),
    onChange: (e: { target: { value: string } }) => put({ [f]: e.target.value }),
  });
  const num = (f: "weight_g" | "length_mm" | "width_mm" | "height_mm") => ({
    type: "number",
    min: 0,
    value: it[f] ?? 0,
    disabled: !!owned(f),
    onChange: (e: { target: { value: string } }) => put({ [f]: Number(e.target.value) }),
  });
  return (
    <form onSubmit={submit} className="max-w-4xl">
      <Head
        title={isNew ? "New item" : it.name}
        tab={isNew ? "New item" : `Edit ${was.sku}`}
        sub={!isNew && <span className="code">{was.sku}</span>}
      >
        <Button onClick={() => void navigate(-1)}>Leave</Button>
        <Button kind="main" type="submit" disabled={save.isPending || lists.isPending}>
          {isNew ? "Add item" : "Save"}
        </Button>
      </Head>
      <Trouble error={save.error} />
      <fieldset className="mb-5 grid gap-3 sm:grid-cols-3">
        <Labelled label="SKU">
          <input className="field code w-full" required maxLength={80} autoFocus={isNew} {...text("sku")} />
        </Labelled>
        <div className="sm:col-span-2">
          <Labelled label="Name" help={help("name")}>
            <input className="field w-full" required {...text("name")} />
          </Labelled>
        </div>
        <Labelled label="What it is">
          <select className="field w-full" value={it.kind ?? "stocked"} onChange={(e) => put({ kind: e.target.value as Item["kind"] })}>
            <option value="stocked">stocked: lies on a shelf</option>
            <option value="kit">kit: made of other items</option>
            <option value="made to order">made to order: holds no stock</option>
            <option value="prepared">prepared food, with choices</option>
            <option value="charge">charge: nothing is sent for it</option>
          </select>
        </Labelled>
        <Labelled label="Family" help="Variants of one thing share it.">
          <input className="field code w-full" {...text("family")} />
        </Labelled>
        <Labelled label="Options" help={help("options", "Such as size M, colour sand.")}>
          <input className="field w-full" {...text("options")} />
        </Labelled>
        {it.kind === "kit" && (
          <div className="sm:col-span-3">
            <Labelled label="Made of" help="One item to a line: how many, and its SKU. It is offered by the scarcest of them.">
              <textarea
                className="field code w-full"
                rows={Math.max(3, parts.split("\n").length + 1)}
                required
                value={parts}
                onChange={(e) => setParts(e.target.value)}
                placeholder={"2 HIVE-BODY\n1 HIVE-ROOF"}
              />
            </Labelled>
          </div>
        )}
        {it.kind === "prepared" && (
          <div className="sm:col-span-3">
            <span className="mb-1 block text-[12px] text-quiet">Choices that a guest makes</span>
            <div className="flex flex-wrap gap-x-5 gap-y-1">
              {groups.data?.map((g) => (
                <label key={g.code} className="flex items-center gap-2">
                  <input
                    type="checkbox"
                    checked={(it.groups ?? []).includes(g.code)}
                    onChange={(e) =>
                      put({ groups: (it.groups ?? []).filter((x) => x !== g.code).concat(e.target.checked ? [g.code] : []) })
                    }
                  />
                  {g.name} <span className="text-quiet">{g.choices.map((c) => c.name).join(", ")}</span>
                </label>
              ))}
            </div>
          </div>
        )}
        {(it.kind ?? "stocked") !== "kit" && (
          <div className="flex flex-wrap gap-x-6 gap-y-2 sm:col-span-3">
            <label className="flex items-center gap-2">
              <input type="checkbox" checked={it.fragile ?? false} onChange={(e) => put({ fragile: e.target.checked })} />
              Fragile: nothing is put on top of it in a carton
            </label>
            <label className="flex items-center gap-2">
              <input type="checkbox" checked={it.upright ?? false} onChange={(e) => put({ upright: e.target.checked })} />
              Its height stays upright
            </label>
          </div>
        )}
        {(it.kind ?? "stocked") === "stocked" && (
          <label className="flex items-center gap-2 sm:col-span-3">
            <input type="checkbox" checked={it.serials ?? false} onChange={(e) => put({ serials: e.target.checked })} />
            Each unit has a serial number: recorded at receipt, chosen at packing
          </label>
        )}
      </fieldset>
      <fieldset className="mb-5 grid gap-3 sm:grid-cols-3">
        <Labelled label="Price" help={help("price")}>
          <span className="flex items-center gap-2">
            <input
              className="field fig w-28"
              inputMode="decimal"
              pattern="[0-9]+([.,][0-9]{1,2})?"
              disabled={!!owned("price")}
              value={price}
              onChange={(e) => setPrice(e.target.value)}
            />
            <span className="text-quiet">{it.currency ?? "EUR"}</span>
          </span>
        </Labelled>
        {lists.data?.map((l) => (
          <Labelled key={l.code} label={`Price, ${l.name}`} help="Nothing: the item's own price.">
            <span className="flex items-center gap-2">
              <input
                className="field fig w-28"
                inputMode="decimal"
                pattern="[0-9]+([.,][0-9]{1,3})?"
                disabled={!!owned("prices")}
                value={inList(l.code, l.currency)}
                onChange={(e) => setListed({ ...listed, [l.code]: e.target.value })}
              />
              <span className="text-quiet">{l.currency}</span>
            </span>
          </Labelled>
        ))}
        <Labelled label="GTIN" help={help("gtin", "With its check digit.")}>
          <input className="field code w-full" inputMode="numeric" {...text("gtin")} />
        </Labelled>
        <Labelled label="Group" help={help("category")}>
          <input className="field w-full" {...text("category")} />
        </Labelled>
        <Labelled label="Marks" help="Words with spaces between; a channel may list all items with one.">
          <input className="field w-full" value={(it.marks ?? []).join(" ")} onChange={(e) => put({ marks: e.target.value.split(" ") })} />
        </Labelled>
        <Labelled label="Tax class">
          <input className="field w-full" {...text("tax_class")} />
        </Labelled>
        <span className="grid grid-cols-2 gap-3">
          <Labelled label="Customs code">
            <input className="field code w-full" {...text("customs_code")} />
          </Labelled>
          <Labelled label="Origin">
            <input className="field code w-full" maxLength={2} {...text("origin")} />
          </Labelled>
        </span>
        <div className="sm:col-span-3">
          <Labelled label="Description" help={help("description")}>
            <textarea className="field w-full" rows={3} {...text("description")} />
          </Labelled>
        </div>
        <div className="sm:col-span-3">
          <Labelled label="Pictures" help="One address to a line.">
            <textarea
              className="field code w-full"
              rows={2}
              value={(it.images ?? []).join("\n")}
              onChange={(e) => put({ images: e.target.value.split("\n").filter(Boolean) })}
            />
          </Labelled>
        </div>
      </fieldset>
      <fieldset className="mb-5 grid grid-cols-2 gap-3 sm:grid-cols-4">
        <Labelled label="Weight, g">
          <input className="field fig w-28" {...num("weight_g")} />
        </Labelled>
        <Labelled label="Length, mm">
          <input className="field fig w-28" {...num("length_mm")} />
        </Labelled>
        <Labelled label="Width, mm">
          <input className="field fig w-28" {...num("width_mm")} />
        </Labelled>
        <Labelled label="Height, mm">
          <input className="field fig w-28" {...num("height_mm")} />
        </Labelled>
      </fieldset>
    </form>
  );
}

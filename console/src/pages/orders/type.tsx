import { companyQuery, connectionsQuery } from "../../api/queries";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { api, Problem, take, type Schema } from "../../api/client";
import { Button, Head, Loading, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import { decimal, minorOf } from "../../parts/format";
import { addressFields } from "../../shared/address/fields";

type Record_ = Schema<"MessageOrder">;
type Line = { id: string; sku: string; title: string; quantity: string; price: string };

/** An order typed by hand: beside a message that could not be taken in, or from a call. It counts for its channel. */
export default function TypeOrder() {
  const [params] = useSearchParams();
  const inbox = Number(params.get("inbox") ?? 0);
  const original = useQuery({
    queryKey: ["inbox", inbox],
    queryFn: () => take(api.GET("/api/v1/inbox/{id}", { params: { path: { id: inbox } } })),
    enabled: inbox > 0,
  });
  const connections = useQuery(connectionsQuery);
  const company = useQuery(companyQuery);
  if (connections.isPending || company.isPending || (inbox > 0 && original.isPending)) return <Loading />;
  return (
    <>
      <Head
        title="Type an order"
        sub={
          inbox
            ? "Beside the message that could not be taken in; it counts for its channel"
            : "Somebody called or wrote; it counts for the channel you choose"
        }
      />
      <Trouble error={connections.error ?? original.error} />
      <div className={inbox ? "grid grid-cols-2 gap-8 max-lg:grid-cols-1" : ""}>
        <Form
          inbox={inbox}
          code={params.get("connection") ?? ""}
          channels={connections.data?.filter((c) => c.side === "channel" && c.state === "on") ?? []}
          read={original.data?.order}
          company={company.data}
        />
        {inbox > 0 && original.data && (
          <section aria-label="The original">
            <h2 className="mb-1">As it came</h2>
            {original.data.reason && <p className="mb-2 border-l-4 border-caution bg-sheet px-3 py-2">{original.data.reason}</p>}
            <pre className="code max-h-[70vh] overflow-auto border-t border-rule pt-2 leading-5 whitespace-pre-wrap">
              {pretty(original.data.raw)}
            </pre>
          </section>
        )}
      </div>
    </>
  );
}

function pretty(raw: string): string {
  try {
    return JSON.stringify(JSON.parse(raw), null, 2);
  } catch {
    return raw;
  }
}

function Form({
  inbox,
  code,
  channels,
  read,
  company,
}: {
  inbox: number;
  code: string;
  channels: Schema<"Connection">[];
  read?: Record_;
  company?: Schema<"RelayCompany">;
}) {
  const navigate = useNavigate();
  const [channel, setChannel] = useState(code || channels[0]?.code || "");
  const currency = read?.currency || company?.currency || "EUR";
  const [number, setNumber] = useState(read?.number ?? "");
  const [email, setEmail] = useState(read?.buyer_email ?? "");
  const [to, setTo] = useState<Record<string, string>>(
    read ? { ...(read.ship_to as unknown as Record<string, string>) } : { country: company?.country ?? "" },
  );
  const [lines, setLines] = useState<Line[]>(
    read?.lines?.length
      ? read.lines.map((l) => ({
          id: l.id,
          sku: l.sku,
          title: l.title,
          quantity: String(l.quantity),
          price: decimal(l.unit_price, currency),
        }))
      : [{ id: "", sku: "", title: "", quantity: "1", price: "" }],
  );
  const [shipping, setShipping] = useState(decimal(read?.shipping ?? 0, currency));
  const [note, setNote] = useState(read?.note ?? "");
  const amount = (text: string, of: string) => {
    const n = minorOf(text, currency);
    if (Number.isNaN(n) || n < 0) throw new Problem(0, `${of}: “${text}” is no amount such as 12.90.`);
    return n;
  };
  const save = useMutation({
    mutationFn: async () =>
      take(
        api.POST("/api/v1/orders", {
          body: {
            connection: channel,
            inbox: inbox || undefined,
            order: {
              number,
              currency,
              prices_include_tax: true,
              buyer_name: to.name,
              buyer_email: email || undefined,
              ship_to: { name: "", street: "", postcode: "", town: "", country: "", ...to },
              lines: lines.map((l, i) => ({
                id: l.id || String(i + 1),
                sku: l.sku,
                title: l.title || l.sku,
                quantity: Number(l.quantity),
                unit_price: amount(l.price, `Price of line ${i + 1}`),
              })),
              shipping: shipping.trim() ? amount(shipping, "Shipping") : 0,
              note: note || undefined,
            },
          },
        }),
      ),
    onSuccess: (o) => void navigate(`/orders/${encodeURIComponent(o.number)}`),
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    save.mutate();
  };
  const setLine = (i: number, l: Partial<Line>) => setLines(lines.map((x, j) => (j === i ? { ...x, ...l } : x)));
  return (
    <form onSubmit={submit} className="grid max-w-3xl grid-cols-2 content-start gap-3">
      <Labelled label="Channel">
        <select className="field w-full" value={channel} disabled={inbox > 0} onChange={(e) => setChannel(e.target.value)}>
          {channels.map((c) => (
            <option key={c.code} value={c.code}>
              {c.name}
            </option>
          ))}
        </select>
      </Labelled>
      <Labelled label="The channel's number" help={inbox ? "" : "Leave it empty where there is none"}>
        <input className="field code w-full" value={number} onChange={(e) => setNumber(e.target.value)} />
      </Labelled>
      {addressFields.map(([key, label]) => (
        <Labelled key={key} label={label}>
          <input className="field w-full" value={to[key] ?? ""} onChange={(e) => setTo({ ...to, [key]: e.target.value })} />
        </Labelled>
      ))}
      <Labelled label="E-mail">
        <input className="field w-full" type="email" value={email} onChange={(e) => setEmail(e.target.value)} />
      </Labelled>
      <Labelled label={`Shipping, ${currency}`}>
        <input className="field fig w-full" value={shipping} onChange={(e) => setShipping(e.target.value)} />
      </Labelled>
      <fieldset className="col-span-2">
        <legend className="mb-1 text-[12px] text-quiet">Lines</legend>
        {lines.map((l, i) => (
          <div key={i} className="mb-2 grid grid-cols-[1fr_1.6fr_5rem_7rem_auto] gap-2">
            <input
              aria-label={`SKU of line ${i + 1}`}
              className="field code"
              placeholder="SKU"
              required
              value={l.sku}
              onChange={(e) => setLine(i, { sku: e.target.value })}
            />
            <input
              aria-label={`Title of line ${i + 1}`}
              className="field"
              placeholder="what it is"
              value={l.title}
              onChange={(e) => setLine(i, { title: e.target.value })}
            />
            <input
              aria-label={`Quantity of line ${i + 1}`}
              className="field fig"
              type="number"
              min={1}
              required
              value={l.quantity}
              onChange={(e) => setLine(i, { quantity: e.target.value })}
            />
            <input
              aria-label={`Price of line ${i + 1}`}
              className="field fig"
              placeholder="0.00"
              required
              value={l.price}
              onChange={(e) => setLine(i, { price: e.target.value })}
            />
            <button
              type="button"
              aria-label={`Take line ${i + 1} away`}
              disabled={lines.length === 1}
              className="text-quiet hover:text-ink disabled:opacity-40"
              onClick={() => setLines(lines.filter((_, j) => j !== i))}
            >
              ×
            </button>
          </div>
        ))}
        <Button kind="quiet" onClick={() => setLines([...lines, { id: "", sku: "", title: "", quantity: "1", price: "" }])}>
          Add a line
        </Button>
      </fieldset>
      <Labelled label="Note" wide>
        <input className="field w-full" value={note} onChange={(e) => setNote(e.target.value)} />
      </Labelled>
      <div className="col-span-2 flex flex-col items-start gap-3">
        <Trouble error={save.error} />
        <Button kind="main" type="submit" disabled={save.isPending || !channel}>
          Take it in
        </Button>
      </div>
    </form>
  );
}

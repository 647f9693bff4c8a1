import { useMutation } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { api, take, type Schema } from "../../api/client";
import { Button, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import { count } from "../../parts/format";

type Rehearsed = Schema<"RelaySharingRehearsed">;

/** What sharing the last units would have made of past sales. Nothing is changed by it. */
export function SharingRehearsal() {
  const [below, setBelow] = useState(20);
  const [over, setOver] = useState(0);
  const rehearse = useMutation({ mutationFn: () => take(api.POST("/api/v1/stock/rehearse-sharing", { body: { below, over } })) });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    rehearse.mutate();
  };
  return (
    <details className="mb-6">
      <summary className="cursor-pointer text-quiet">What would sharing the last units have made of past sales?</summary>
      <form className="mt-3 mb-3 flex flex-wrap items-end gap-3" onSubmit={submit}>
        <Labelled label="Shared from, units down">
          <input className="field w-28" type="number" min={1} value={below} onChange={(e) => setBelow(Number(e.target.value))} />
        </Labelled>
        <Labelled label="Shown beyond what there is, percent">
          <input className="field w-28" type="number" min={0} max={500} value={over} onChange={(e) => setOver(Number(e.target.value))} />
        </Labelled>
        <Button kind="main" type="submit" disabled={rehearse.isPending || below < 1}>
          {rehearse.isPending ? "Rehearsing…" : "Rehearse four weeks"}
        </Button>
      </form>
      <Trouble error={rehearse.error} />
      {rehearse.data && <SharingResult of={rehearse.data} />}
    </details>
  );
}

function SharingResult({ of }: { of: Rehearsed }) {
  if (of.items === 0)
    return <p className="text-quiet">No item that several channels list ran so low in these four weeks: nothing would have been shared.</p>;
  return (
    <>
      <p className="mb-2">
        {count(of.items)} {of.items === 1 ? "item" : "items"} ran so low.{" "}
        {of.more ? `${count(of.more)} more did, moved less and were not looked at.` : ""}
      </p>
      <table className="ledger">
        <thead>
          <tr>
            <th>Item</th>
            <th>Shown</th>
            <th className="r">Asked for</th>
            <th className="r">Sold</th>
            <th className="r">Oversold</th>
            <th className="r">Refused, though there was some</th>
          </tr>
        </thead>
        <tbody>
          <Pair name="All of them" all={of.all} shared={of.shared} />
          {of.list.map((o) => (
            <Pair key={o.sku} name={o.sku} code all={o.all} shared={o.shared} />
          ))}
        </tbody>
      </table>
    </>
  );
}

type Sum = Rehearsed["all"];

function Pair({ name, code, all, shared }: { name: string; code?: boolean; all: Sum; shared: Sum }) {
  const row = (shown: string, s: Sum, first: boolean) => (
    <tr>
      {first && (
        <td rowSpan={2} className={code ? "code" : "font-medium"}>
          {name}
        </td>
      )}
      <td>{shown}</td>
      <td className="r fig">{count(s.asked)}</td>
      <td className="r fig">{count(s.sold)}</td>
      <td className="r fig">{count(s.oversold)}</td>
      <td className="r fig">{count(s.refused)}</td>
    </tr>
  );
  return (
    <>
      {row("all, everywhere", all, true)}
      {row("shared", shared, false)}
    </>
  );
}

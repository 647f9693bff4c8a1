import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { api, take, takeWith, type Schema } from "../../api/client";
import { may, meQuery } from "../../api/queries";
import { Button, Empty, Head, Loading, Trouble } from "../../parts/controls";
import { partnerStops, Rail } from "../../parts/rail";
import { SayItem } from "../../shared/partners/sayitem";

type Item = Schema<"PartnerItem">;

async function allItems(code: string): Promise<Item[]> {
  const out: Item[] = [];
  for (let after = ""; ; after = out[out.length - 1]?.sku ?? "") {
    const page = await takeWith(api.GET("/api/v1/partners/{code}/items", { params: { path: { code }, query: { limit: 500, after } } }));
    out.push(...page.data);
    if (!page.next) return out;
  }
}

/** What partners call our items. */
export default function PartnerItems() {
  const [params, setParams] = useSearchParams();
  const me = useQuery(meQuery);
  const partners = useQuery({ queryKey: ["partners"], queryFn: () => take(api.GET("/api/v1/partners")) });
  const code = params.get("partner") ?? partners.data?.[0]?.code ?? "";
  return (
    <>
      <Head title="Partners" tab="Items" sub="What partners call our items, and what they are never asked for" />
      <Rail label="Partners" stops={partnerStops} />
      <Trouble error={partners.error} />
      {partners.isPending && <Loading />}
      {partners.data?.length === 0 && <Empty>No connection can be asked to send anything.</Empty>}
      {(partners.data?.length ?? 0) > 1 && (
        <label className="mb-4 inline-flex items-baseline gap-2">
          <span className="text-quiet">Partner</span>
          <select className="field" value={code} onChange={(e) => setParams({ partner: e.target.value }, { replace: true })}>
            {partners.data?.map((p) => (
              <option key={p.code} value={p.code}>
                {p.name}
              </option>
            ))}
          </select>
        </label>
      )}
      {code && <Named key={code} code={code} change={may(me.data, "catalog")} />}
    </>
  );
}

function Named({ code, change }: { code: string; change: boolean }) {
  const client = useQueryClient();
  const q = useQuery({ queryKey: ["partner items", code], queryFn: () => allItems(code) });
  const forget = useMutation({
    mutationFn: (sku: string) => take(api.DELETE("/api/v1/partners/{code}/items/{sku}", { params: { path: { code, sku } } })),
    onSuccess: () => void client.invalidateQueries({ queryKey: ["partner items", code] }),
  });
  return (
    <>
      {change && (
        <>
          <SayItem partner={code} />
          <p className="mt-2 mb-4 text-quiet">
            Many at once:{" "}
            <Link className="underline decoration-rule underline-offset-4" to="/tables?kind=partner-items">
              hand in a CSV file
            </Link>
            .
          </p>
        </>
      )}
      <Trouble error={q.error ?? forget.error} />
      {q.isPending && <Loading />}
      {q.data?.length === 0 && <Empty>Nothing was said of any item: it is asked for all by our SKU.</Empty>}
      {!!q.data?.length && (
        <table className="ledger mt-4">
          <thead>
            <tr>
              <th>Our SKU</th>
              <th>Item</th>
              <th>There</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {q.data.map((i) => (
              <tr key={i.sku}>
                <td className="code">{i.sku}</td>
                <td>{i.name}</td>
                <td>{i.ignored ? <span className="text-quiet">never asked for</span> : <span className="code">{i.code || i.sku}</span>}</td>
                <td className="r">
                  {change && (
                    <Button kind="quiet" onClick={() => forget.mutate(i.sku)} disabled={forget.isPending}>
                      Forget
                    </Button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}

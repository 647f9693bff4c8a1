import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, take, takeWith, type Schema } from "../../api/client";
import { Button, Empty, Loading, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import { When } from "../../parts/format";
import { Lamp, type LampState } from "../../parts/lamp";
import { SettingsPage } from "../../shared/company/settingspage";

type Terms = Schema<"RelayFactorTerms">;

/** Who came in, who was kept out, who changed what others may do; and what is asked of all who sign in. */
export default function Security() {
  return (
    <SettingsPage
      kinds={["second factor"]}
      title="Security"
      sub="Who came in, who was kept out, and what is asked at the door"
      needs="people"
      about="What happens at the door"
    >
      <Door />
      <Events />
    </SettingsPage>
  );
}

const choices: [Terms["of"], string][] = [
  ["nobody", "of nobody; who wants one sets it up"],
  ["leads", "of those with the role lead"],
  ["everybody", "of everybody"],
];

function Door() {
  const client = useQueryClient();
  const key = ["sign-in terms"];
  const q = useQuery({ queryKey: key, queryFn: () => take(api.GET("/api/v1/sign-in-terms")) });
  const put = useMutation({
    mutationFn: (of: Terms["of"]) => take(api.PUT("/api/v1/sign-in-terms", { body: { of } })),
    onSuccess: (terms) => {
      client.setQueryData(key, terms);
      void client.invalidateQueries({ queryKey: ["me"] });
      void client.invalidateQueries({ queryKey: ["security events"] });
    },
  });
  return (
    <section aria-label="At the door">
      <h2>At the door</h2>
      <Trouble error={q.error ?? put.error} />
      {q.data && (
        <Labelled label="A second factor is demanded" help="Who has none is asked to set one up before anything else">
          <select
            className="field w-80"
            value={q.data.of}
            disabled={put.isPending}
            onChange={(e) => put.mutate(e.target.value as Terms["of"])}
          >
            {choices.map(([of, text]) => (
              <option key={of} value={of}>
                {text}
              </option>
            ))}
          </select>
        </Labelled>
      )}
    </section>
  );
}

const lamps: Record<string, LampState> = { "signed in": "go", refused: "stop", terms: "caution", "second factor": "caution" };

function Events() {
  const q = useInfiniteQuery({
    queryKey: ["security events"],
    initialPageParam: 0,
    queryFn: ({ pageParam }) => takeWith(api.GET("/api/v1/security-events", { params: { query: { limit: 100, before: pageParam } } })),
    getNextPageParam: (last) => (last.next ? last.data.at(-1)?.id : undefined),
  });
  const list = q.data?.pages.flatMap((p) => p.data) ?? [];
  return (
    <section aria-label="What happened">
      <h2>What happened</h2>
      <p className="mb-2 max-w-prose text-quiet">The same lines stand in the service's log, as “security”, for whoever gathers them.</p>
      <Trouble error={q.error} />
      {q.isPending && <Loading />}
      {q.data && list.length === 0 && <Empty>Nobody has signed in yet. What happens at the door will appear here.</Empty>}
      {list.length > 0 && (
        <table className="ledger">
          <thead>
            <tr>
              <th>When</th>
              <th>What</th>
              <th>Who</th>
              <th>From</th>
              <th>About</th>
            </tr>
          </thead>
          <tbody>
            {list.map((e) => (
              <tr key={e.id}>
                <td>
                  <When at={e.at} />
                </td>
                <td>
                  <Lamp state={lamps[e.kind] ?? "idle"}>{e.kind}</Lamp>
                </td>
                <td>{e.who}</td>
                <td className="code">{e.source}</td>
                <td>{e.text}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {q.hasNextPage && (
        <div className="mt-2">
          <Button onClick={() => void q.fetchNextPage()} disabled={q.isFetchingNextPage}>
            Older ones
          </Button>
        </div>
      )}
    </section>
  );
}

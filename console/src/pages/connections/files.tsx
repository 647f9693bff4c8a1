import { useInfiniteQuery } from "@tanstack/react-query";
import { api, takeWith, type Schema } from "../../api/client";
import { ShowMore, Trouble } from "../../parts/controls";
import { count, When } from "../../parts/format";
import { Lamp, type LampState } from "../../parts/lamp";

const lamps: Record<Schema<"ExchangedFile">["state"], LampState> = {
  taken: "go",
  sent: "go",
  accepted: "go",
  again: "idle",
  awaited: "busy",
  unanswered: "caution",
  refused: "stop",
};

/** Files that came and went, where a side exchanges files; nothing where it does not. */
export function Files({ code }: { code: string }) {
  const q = useInfiniteQuery({
    queryKey: ["files", code],
    initialPageParam: "",
    queryFn: ({ pageParam }) => {
      const before = Number(new URLSearchParams(pageParam).get("before") ?? 0) || undefined;
      return takeWith(api.GET("/api/v1/files", { params: { query: { connection: code, limit: 30, before } } }));
    },
    getNextPageParam: (last) => last.next,
  });
  const files = q.data?.pages.flatMap((p) => p.data) ?? [];
  if (files.length === 0) return <Trouble error={q.error} />;
  return (
    <section className="mb-6">
      <h2>Files</h2>
      <table className="ledger">
        <thead>
          <tr>
            <th>Name</th>
            <th>Feed</th>
            <th className="r">Bytes</th>
            <th className="r">Records</th>
            <th>State</th>
            <th>Why</th>
            <th>When</th>
          </tr>
        </thead>
        <tbody>
          {files.map((f) => (
            <tr key={f.id}>
              <td className="code break-all">{f.name}</td>
              <td className="whitespace-nowrap">{f.feed}</td>
              <td className="r fig">{count(f.size)}</td>
              <td className="r fig">{count(f.records)}</td>
              <td>
                <Lamp state={lamps[f.state]}>{f.state}</Lamp>
              </td>
              <td className={f.state === "refused" ? "text-stop" : "text-quiet"}>{f.reason}</td>
              <td>
                <When at={f.at} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <ShowMore of={q} />
    </section>
  );
}

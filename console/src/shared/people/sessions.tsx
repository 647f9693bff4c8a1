import type { Schema } from "../../api/client";
import { Button } from "../../parts/controls";
import { When } from "../../parts/format";
import { Lamp } from "../../parts/lamp";

/** Sessions of somebody, each but the present one to be ended. */
export function SessionList({ list, onEnd }: { list: Schema<"UserSession">[]; onEnd: (id: number) => void }) {
  return (
    <table className="ledger">
      <thead>
        <tr>
          <th>Browser</th>
          <th>From</th>
          <th>Began</th>
          <th>Used last</th>
          <th />
        </tr>
      </thead>
      <tbody>
        {list.map((s) => (
          <tr key={s.id}>
            <td>
              {s.here && <Lamp state="go">this one</Lamp>} <span title={s.agent}>{browserOf(s.agent)}</span>
            </td>
            <td className="code">{s.source}</td>
            <td>
              <When at={s.began_at} />
            </td>
            <td>
              <When at={s.used_at} />
            </td>
            <td className="r">
              {!s.here && (
                <Button kind="quiet" aria-label={`End the session from ${s.source}`} onClick={() => onEnd(s.id)}>
                  End
                </Button>
              )}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** What a browser says of itself, in a few words: the device, and the last of its names. */
export function browserOf(agent: string): string {
  const device = agent.match(/\(([^;)]*)/)?.[1] ?? "";
  const names = [...agent.matchAll(/([A-Z][A-Za-z]+)\/\d/g)].map((m) => m[1]);
  return [names.at(-1) ?? agent.slice(0, 40), device].filter(Boolean).join(", ") || "unknown";
}

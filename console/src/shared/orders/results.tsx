import type { ReactNode } from "react";
import { Link } from "react-router";
import type { Schema } from "../../api/client";
import { Sheet, Trouble } from "../../parts/controls";
import { Lamp } from "../../parts/lamp";
import type { useAction } from "./action";

type Part = Schema<"RelayBulkResult">["state"];
const lampOf = { waiting: "idle", "under way": "busy", done: "go", refused: "caution" } as const satisfies Record<Part, string>;
const wordOf: Record<Part, string> = { waiting: "waits", "under way": "under way", done: "done", refused: "not" };

/** What became of each of many things that something was done to; to is the page of one. */
export function ActionResults({
  action,
  to,
  onClose,
  children,
}: {
  action: ReturnType<typeof useAction>;
  to: (number: string) => string;
  onClose: () => void;
  children?: ReactNode;
}) {
  const result = action.result;
  const counted = (r: NonNullable<typeof result>) =>
    r.state === "done" ? `${r.action}: ${r.done} of ${r.total} done` : `${r.action}: ${r.settled} of ${r.total} have their outcome`;
  return (
    <Sheet
      open={result !== null}
      onClose={() => {
        action.forget();
        onClose();
      }}
      title={result ? counted(result) : ""}
    >
      {result && (
        <>
          {result.state !== "done" && (
            <div role="status" className="mb-3">
              <progress className="w-full" max={result.total} value={result.settled} aria-label="Those that have their outcome" />
              <p className="text-[12px] text-quiet">It goes on by itself; you can close this. What became of it stands on each order.</p>
              {result.error && <p className="text-caution">The last step failed and is tried again: {result.error}</p>}
            </div>
          )}
          <Trouble error={action.error} />
          <table className="ledger">
            <tbody>
              {result.results.map((r) => (
                <tr key={r.number}>
                  <td className="w-24">
                    <Lamp state={lampOf[r.state]}>{wordOf[r.state]}</Lamp>
                  </td>
                  <td>
                    <Link className="code underline decoration-rule underline-offset-4 hover:decoration-ink" to={to(r.number)}>
                      {r.number}
                    </Link>
                  </td>
                  <td>{r.text}</td>
                </tr>
              ))}
            </tbody>
          </table>
          {children}
        </>
      )}
    </Sheet>
  );
}

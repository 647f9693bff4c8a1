import type { Schema } from "../../api/client";
import { Lamp, type LampState } from "../../parts/lamp";

const lamps: Record<string, LampState> = { announced: "idle", arrived: "caution", settled: "go", "called off": "stop" };

/** Where a return stands: once all of it is here, somebody has to decide on it. */
export function ReturnState({ of: r }: { of: Pick<Schema<"Return">, "state" | "came" | "units"> }) {
  const partly = r.state === "arrived" && r.came < r.units;
  return <Lamp state={partly ? "busy" : (lamps[r.state] ?? "idle")}>{r.state === "arrived" && !partly ? "to be decided" : r.state}</Lamp>;
}

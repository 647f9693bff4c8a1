import { Lamp, type LampState } from "../../parts/lamp";

const lamps: Record<string, LampState> = { live: "go", off: "idle", "in review": "busy", submitted: "busy", rejected: "stop" };

/** How a listing stands with its channel. */
export function ListingState({ state, reason }: { state: string; reason?: string }) {
  return (
    <span title={reason}>
      <Lamp state={lamps[state] ?? "idle"}>{state}</Lamp>
      {reason && <span className="block text-[12px] text-stop">{reason}</span>}
    </span>
  );
}

import { Lamp, type LampState } from "../../parts/lamp";

const lamps: Record<string, LampState> = {
  picking: "busy",
  packed: "go",
  "buying label": "busy",
  shipped: "busy",
  delivered: "idle",
  "called off": "stop",
};

export function ParcelState({ state }: { state: string }) {
  return <Lamp state={lamps[state] ?? "idle"}>{state}</Lamp>;
}

const journeys: Record<string, LampState> = {
  accepted: "busy",
  "under way": "busy",
  "out for delivery": "busy",
  delivered: "idle",
  failed: "caution",
  "held by customs": "caution",
  returning: "caution",
  returned: "stop",
  lost: "stop",
  problem: "caution",
};

/** How a parcel stands on its way. */
export function JourneyLamp({ journey }: { journey: string }) {
  return <Lamp state={journeys[journey] ?? "busy"}>{journey}</Lamp>;
}

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

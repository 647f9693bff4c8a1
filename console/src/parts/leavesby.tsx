import { useNow, When } from "./format";
import { Lamp } from "./lamp";

/** When an order should have left, by the hours of its place; a sign where that is past. */
export function LeavesBy({ at }: { at?: string | null }) {
  const now = useNow();
  if (!at) return null;
  return new Date(at).getTime() < now ? (
    <Lamp state="caution">
      late since <When at={at} />
    </Lamp>
  ) : (
    <When at={at} />
  );
}

import { useEffect, useState } from "react";

/** What was typed, once nothing was typed for a moment. */
export function useSettled<T>(value: T, after = 250): T {
  const [settled, setSettled] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(value), after);
    return () => clearTimeout(timer);
  }, [value, after]);
  return settled;
}

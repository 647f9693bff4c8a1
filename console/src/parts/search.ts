import { useEffect, useState } from "react";
import { useSearchParams } from "react-router";

/** Keeps a search field and the address bar in step. */
export function useSearchText() {
  const [params, setParams] = useSearchParams();
  const search = params.get("q") ?? "";
  const [typed, setTyped] = useState(search);
  useEffect(() => {
    if (typed === search) return;
    const timer = setTimeout(
      () =>
        setParams(
          (p) => {
            if (typed) p.set("q", typed);
            else p.delete("q");
            return p;
          },
          { replace: true },
        ),
      250,
    );
    return () => clearTimeout(timer);
  });
  return { search, typed, setTyped, params, setParams };
}

import { useSearchParams } from "react-router";

/** The words of the page's address, a way to set one, which an empty value takes out without a step to go back to, and a way to set all. */
export function useWords(): [URLSearchParams, (key: string, value: string) => void, (all: URLSearchParams) => void] {
  const [params, setParams] = useSearchParams();
  const set = (key: string, value: string) =>
    setParams(
      (p) => {
        if (value) p.set(key, value);
        else p.delete(key);
        return p;
      },
      { replace: true },
    );
  return [params, set, setParams];
}

import { useSearchParams } from "react-router";

/** A choice that is kept in the address. */
export function Choice({ name, label, options }: { name: string; label: string; options: readonly (readonly [string, string])[] }) {
  const [params, setParams] = useSearchParams();
  return (
    <select
      className="field"
      aria-label={label}
      value={params.get(name) ?? ""}
      onChange={(e) =>
        setParams(
          (p) => {
            if (e.target.value) p.set(name, e.target.value);
            else p.delete(name);
            return p;
          },
          { replace: true },
        )
      }
    >
      {options.map(([value, text]) => (
        <option key={value} value={value}>
          {text}
        </option>
      ))}
    </select>
  );
}

/** Views of a list: one of them is chosen. */
export function Views({
  of,
  chosen,
  onChoose,
}: {
  of: readonly (readonly [value: string, name: string])[];
  chosen: string;
  onChoose: (value: string) => void;
}) {
  return (
    <div role="group" aria-label="State" className="flex flex-wrap">
      {of.map(([value, name]) => (
        <button
          key={name}
          type="button"
          aria-pressed={chosen === value}
          onClick={() => onChoose(value)}
          className={`border-b-2 px-2 py-1 ${chosen === value ? "border-ink" : "border-transparent text-quiet hover:text-ink"}`}
        >
          {name}
        </button>
      ))}
    </div>
  );
}

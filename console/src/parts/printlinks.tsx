const sizes = [
  ["a4", "A4"],
  ["roll", "80 mm"],
  ["label", "labels"],
] as const;

/** Links to a paper in the sizes that it is printed on. */
export function PrintLinks({ of, path }: { of: string; path: string }) {
  return (
    <span className="flex min-h-12 flex-wrap items-center gap-x-3" role="group" aria-label={of}>
      {of}:
      {sizes.map(([size, name]) => (
        <a
          key={size}
          className="flex min-h-12 items-center underline decoration-rule underline-offset-4 hover:decoration-ink"
          href={`${path}?size=${size}`}
          target="_blank"
          rel="noreferrer"
        >
          {name}
        </a>
      ))}
    </span>
  );
}

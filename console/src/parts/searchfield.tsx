/** The field at the top of a list, by which it is searched; the key / leads to it. */
export function SearchField(props: {
  /** What the list has, such as orders. */
  of: string;
  /** What can be searched for. */
  by: string;
  value: string;
  onChange: (text: string) => void;
}) {
  return (
    <input
      type="search"
      className="field"
      size={Math.max(24, props.by.length + 8)}
      placeholder={`${props.by}  ( / )`}
      aria-label={`Search ${props.of}`}
      value={props.value}
      onChange={(e) => props.onChange(e.target.value)}
    />
  );
}

import { Labelled } from "../../parts/fields";

/** A code made of a name: small letters, digits and lines. */
export const codeOf = (name: string) =>
  name
    .normalize("NFKD")
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, "-")
    .replace(/^-+|-+$/g, "")
    .slice(0, 31);

/** Name and code of something that is kept; of what is there, the code stays. */
export function NameAndCode({
  name,
  code,
  fixed,
  onName,
  onCode,
}: {
  name: string;
  code: string;
  fixed: boolean;
  onName: (name: string) => void;
  onCode: (code: string) => void;
}) {
  return (
    <>
      <Labelled label="Name">
        <input className="field w-full" required autoFocus maxLength={120} value={name} onChange={(e) => onName(e.target.value)} />
      </Labelled>
      <Labelled label="Code" help={fixed ? "It stays" : "Short, for tables, scans and set-ups; it stays"}>
        <input
          className="field code w-full"
          maxLength={31}
          disabled={fixed}
          placeholder={codeOf(name)}
          value={code}
          onChange={(e) => onCode(e.target.value)}
        />
      </Labelled>
    </>
  );
}

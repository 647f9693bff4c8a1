type Cell = string | number;

/** A spreadsheet works out what begins so, and a cell may come from anybody; an apostrophe keeps it text. A number is none. */
const formula = (s: string) => {
  const rest = s.replace(/^'+/, "");
  return /^[=@\t\r\n＝＠＋－]/.test(rest) || (/^[+-]/.test(rest) && !/^[+-]?\d+([.,]\d+)*$/.test(rest));
};

function cell(value: Cell): string {
  const s = typeof value === "string" && formula(value) ? `'${value}` : String(value);
  return /[",\n\r]/.test(s) ? `"${s.replaceAll('"', '""')}"` : s;
}

/** Rows as a table in a file (RFC 4180), safe to be opened in a spreadsheet. */
export const csvText = (rows: Cell[][]) => rows.map((row) => `${row.map(cell).join(",")}\r\n`).join("");

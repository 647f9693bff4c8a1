/** What readers put before the data of a GS1 symbol (ISO/IEC 15424). */
const symbols = ["]C1", "]d2", "]Q3", "]e0"];

/** FNC1, as readers transmit it. */
const separator = String.fromCharCode(29);

/** The GTIN that a GS1-128 or GS1 Data Matrix symbol begins with, without leading zeros; of any other code, the code. */
export function productOf(code: string): string {
  const text = code.trim();
  const clear = /^\(0[12]\)(\d{14})/.exec(text);
  if (clear?.[1]) return bare(clear[1]);
  const mark = symbols.find((s) => text.startsWith(s));
  let data = mark ? text.slice(mark.length) : text;
  while (data.startsWith(separator)) data = data.slice(1);
  const element = /^0[12](\d{14})(.*)$/s.exec(data);
  if (element?.[1] && (mark || element[2])) return bare(element[1]);
  return text;
}

/** A GTIN without the zeros by which it is filled up. */
export const bare = (gtin: string) => gtin.replace(/^0+/, "");

/** What a spreadsheet would run as a formula, behind whatever it takes for space. */
const FORMULA = /^[\s\u0000-\u001f\ufeff]*[=+\-@\uff1d\uff0b\uff0d\uff20]/;

/** A field of RFC 4180, kept from being run. */
export function field(text: string): string {
  const guarded = text.length > 1 && FORMULA.test(text) ? `'${text}` : text;
  return /[",\r\n]/.test(guarded) ? `"${guarded.replaceAll('"', '""')}"` : guarded;
}

/** A table as CSV. */
export const csv = (rows: string[][]) =>
  rows.map((row) => `${row.map(field).join(",")}\r\n`).join("");

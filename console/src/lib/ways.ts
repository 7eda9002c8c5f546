import type { JudgedLine, Line } from "@/api/client";

type Way = Line["way"];
type Purpose = Line["purpose"];

/** The heading of a choice. */
export const WORDS: Record<Way, string> = {
  "challenge-txt": "a TXT record at the challenge label",
  "challenge-cname": "a CNAME at the challenge label",
  "host-txt": "a TXT record at the host, where the editor refuses underscores",
  cname: "a CNAME record",
  addresses: "all of these addresses, and no others",
  alias: "an alias at the apex, where the editor offers one",
  delegation: "the whole zone at these name servers, set at the registrar",
  "acme-cname": "a CNAME for the certificate",
};

/** What the lines of a purpose are for. */
export const PURPOSES: Record<Purpose, string> = {
  ownership: "To prove that the domain is theirs",
  routing: "To bring visitors to the site",
  certificate: "To let us renew the certificate",
};

export interface Choice<L extends Line> {
  way: Way;
  lines: L[];
}

/** Lines by purpose and choice, the preferred choice first. */
export function choices<L extends Line>(lines: L[]): { purpose: Purpose; ways: Choice<L>[] }[] {
  const purposes = [...new Set(lines.map((l) => l.purpose))];
  return purposes.map((purpose) => {
    const of = lines.filter((l) => l.purpose === purpose);
    const ways = [...new Set(of.map((l) => l.way))];
    return { purpose, ways: ways.map((way) => ({ way, lines: of.filter((l) => l.way === way) })) };
  });
}

/** Of several choices, those that are begun; else the preferred one. */
export function inUse(lines: JudgedLine[]): JudgedLine[] {
  const met = (l: JudgedLine) => l.cells.some((c) => c.verdict === "match");
  return choices(lines).flatMap(({ ways }) => {
    const begun = ways.filter((way) => way.lines.some(met));
    return (begun.length ? begun : ways.slice(0, 1)).flatMap((way) => way.lines);
  });
}

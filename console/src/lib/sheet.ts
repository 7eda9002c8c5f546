import type { Line } from "@/api/client";

type Choice = Line["way"];
type Purpose = Line["purpose"];

/** What the lines of a purpose are for. */
export const PURPOSES: Record<Purpose, string> = {
  ownership: "To prove that the domain is theirs",
  routing: "To bring visitors to the site",
  certificate: "To let us renew the certificate",
};

export interface Chosen<L extends Line> {
  choice: Choice;
  lines: L[];
}

/** What an editor shows as the type of a line. */
export const editorType = (line: Pick<Line, "way" | "rtype">) =>
  line.way === "alias" ? "ALIAS" : line.rtype;

/** Lines by purpose and choice, the preferred choice first. */
export function choices<L extends Line>(lines: L[]): { purpose: Purpose; choices: Chosen<L>[] }[] {
  const purposes = [...new Set(lines.map((line) => line.purpose))];

  return purposes.map((purpose) => {
    const of = lines.filter((line) => line.purpose === purpose);
    const found = [...new Set(of.map((line) => line.way))];
    const chosen = found.map((choice) => ({
      choice,
      lines: of.filter((line) => line.way === choice),
    }));
    return { purpose, choices: chosen };
  });
}

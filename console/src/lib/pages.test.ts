import { expect, test } from "vitest";

import { gather, type Page } from "./pages";

const open = new AbortController().signal;

/** A listing of pages with so many lines each, which counts how many were read. */
function listing(...lines: number[]) {
  const asked: string[] = [];
  const read = async (path: string): Promise<Page<number>> => {
    asked.push(path);
    const at = Number(path);
    const next = at + 1 < lines.length ? String(at + 1) : undefined;
    return { rows: Array.from({ length: lines[at] ?? 0 }, () => at), next };
  };
  return { asked, read };
}

test("short pages are read on from until there is enough, or no more", async () => {
  const { asked, read } = listing(3, 0, 4, 9);
  const enough = await gather(read, "0", (lines) => lines >= 6, open);
  expect(enough).toEqual({ rows: [0, 0, 0, 2, 2, 2, 2], next: "3" });
  expect(asked).toEqual(["0", "1", "2"]);

  const all = await gather(read, "1", () => false, open);
  expect(all.rows.length).toBe(13);
  expect(all.next).toBeUndefined();
});

test("pages without a line are not read on for ever, and lead on", async () => {
  const { asked, read } = listing(...Array.from({ length: 80 }, () => 0), 1);
  const { rows, next } = await gather(read, "0", () => false, open);
  expect(rows).toEqual([]);
  expect(asked.length).toBe(50);
  expect(next).toBe("50");
});

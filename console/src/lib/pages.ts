/** Pages that are read on through at most while none of them had a line. */
const MOST_EMPTY = 50;

/** A page of a listing; `next` leads to the one after. */
export interface Page<T> {
  rows: T[];
  next?: string;
}

/** Reads the page of a path; the signal calls it off. */
export type Read<T> = (path: string, signal: AbortSignal) => Promise<Page<T>>;

/**
 * Lines of a listing from `path` on, read page after page until `isEnough` of so many from so
 * many pages. A page may be short, or empty, and lead on all the same.
 */
export async function gather<T>(
  read: Read<T>,
  path: string,
  isEnough: (lines: number, pages: number) => boolean,
  signal: AbortSignal,
): Promise<Page<T>> {
  const rows: T[] = [];
  let next: string | undefined = path;
  for (let pages = 0; next && !isEnough(rows.length, pages); pages++) {
    if (rows.length === 0 && pages === MOST_EMPTY) break;
    const page: Page<T> = await read(next, signal);
    rows.push(...page.rows);
    next = page.next;
  }
  return { rows, next };
}

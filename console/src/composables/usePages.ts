import { ref, watch, type Ref } from "vue";

import type { Event } from "@/api/client";

import { useLive } from "./useLive";

/** Lines that a page shows at least, where there are so many. */
const LEAST = 40;
/** Pages that are read for one that is shown, at most. */
const MOST_READ = 6;

/** A page of a listing; `next` leads to the one after. */
export interface Page<T> {
  rows: T[];
  next?: string;
}

/**
 * A listing at `path`, a page at a time: read anew when the path changes, and as many
 * pages as are shown when an event concerns it.
 */
export function usePages<T>(
  path: () => string,
  read: (path: string) => Promise<Page<T>>,
  concerns: (event: Event, shown: T[]) => boolean,
) {
  const rows = ref([]) as Ref<T[]>;
  const pages = ref(1);
  const more = ref(false);
  const loaded = ref(false);
  let turn = 0;

  const isShort = (found: T[], page: number) =>
    found.length < pages.value * LEAST && page < pages.value * MOST_READ;

  async function load() {
    const mine = ++turn;
    const found: T[] = [];
    let next: string | undefined = path();
    // A page may be short, and lead on all the same: a few of them make one that is shown.
    for (let page = 0; next && (page < pages.value || isShort(found, page)); page++) {
      const answer: Page<T> = await read(next);
      // Something else is asked for by now, as with each letter of what is typed.
      if (mine !== turn) return;
      found.push(...answer.rows);
      next = answer.next;
    }

    rows.value = found;
    more.value = next !== undefined;
    loaded.value = true;
  }

  const reload = useLive((event) => concerns(event, rows.value), load);
  watch(path, () => {
    pages.value = 1;
    void reload();
  });

  async function showMore() {
    pages.value += 1;
    await reload();
  }

  return { rows, more, loaded, reload, showMore };
}

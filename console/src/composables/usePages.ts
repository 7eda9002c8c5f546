import { ref, watch, type Ref } from "vue";

import type { Event } from "@/api/client";

import { useLive } from "./useLive";

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

  async function reload() {
    const mine = ++turn;
    const found: T[] = [];
    let next: string | undefined = path();
    for (let page = 0; page < pages.value && next; page++) {
      const answer: Page<T> = await read(next);
      found.push(...answer.rows);
      next = answer.next;
    }

    // An older answer must not overwrite a newer one.
    if (mine !== turn) return;
    rows.value = found;
    more.value = next !== undefined;
    loaded.value = true;
  }

  watch(path, () => {
    pages.value = 1;
    void reload();
  });
  useLive((event) => concerns(event, rows.value), reload);

  async function showMore() {
    pages.value += 1;
    await reload();
  }

  return { rows, more, loaded, reload, showMore };
}

import { onUnmounted, ref, watch, type Ref } from "vue";

import type { Event } from "@/api/client";

import { gather, type Read } from "@/lib/pages";

import { useLatest } from "./useLatest";
import { useLive } from "./useLive";

/** Lines that a page shows at least, where there are so many. */
const LEAST = 40;
/** Pages that are read for one that is shown, at most. */
const MOST_READ = 6;
/** How long what is asked for has to stay the same before it is, in milliseconds: people type. */
const SETTLED = 150;

/**
 * A listing at `path`, a page at a time: read anew when the path changes, and as many
 * pages as are shown when an event concerns it.
 */
export function usePages<T>(
  path: () => string,
  read: Read<T>,
  concerns: (event: Event, shown: T[]) => boolean,
) {
  const rows = ref([]) as Ref<T[]>;
  const pages = ref(1);
  const more = ref(false);
  const loaded = ref(false);
  const latest = useLatest();
  let settling: number | undefined;

  /** A page may be short: a few of them make one that is shown. */
  const isEnough = (lines: number, done: number) =>
    done >= pages.value &&
    (lines >= pages.value * LEAST || (lines > 0 && done >= pages.value * MOST_READ));

  async function load() {
    const found = await latest((signal) => gather(read, path(), isEnough, signal));
    if (!found) return;

    rows.value = found.rows;
    more.value = found.next !== undefined;
    loaded.value = true;
  }

  const reload = useLive((event) => concerns(event, rows.value), load);
  watch(path, () => {
    pages.value = 1;
    window.clearTimeout(settling);
    settling = window.setTimeout(() => void reload(), SETTLED);
  });
  onUnmounted(() => window.clearTimeout(settling));

  async function showMore() {
    pages.value += 1;
    await reload();
  }

  return { rows, more, loaded, reload, showMore };
}

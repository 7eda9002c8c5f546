import { computed, ref, type Ref } from "vue";

import { gather, type Read } from "@/lib/pages";

import { useLatest } from "./useLatest";

/** Choices that are offered at least, where so many fit. */
const LEAST = 30;
/** Pages that are read for more of them, once there are any. */
const MOST_READ = 6;

const isEnough = (lines: number, pages: number) =>
  lines >= LEAST || (lines > 0 && pages >= MOST_READ);

/** What is found in a listing of `what` as one types; only the last text counts. */
export function useSought<T>(what: string, path: (text: string) => string, read: Read<T>) {
  const found = ref([]) as Ref<T[]>;
  const searching = ref(false);
  /** Whether there are more to look through than was done. */
  const more = ref(false);
  /** Said where nothing is found. */
  const none = computed(() =>
    more.value ? "None so far. Type more of its name." : `No ${what} has that in its name.`,
  );
  const latest = useLatest();

  async function search(text = "") {
    searching.value = true;
    try {
      const sought = await latest((signal) => gather(read, path(text), isEnough, signal));
      // Something else is sought by then.
      if (!sought) return;
      found.value = sought.rows;
      more.value = sought.next !== undefined;
      searching.value = false;
    } catch (problem) {
      searching.value = false;
      throw problem;
    }
  }

  return { found, searching, none, search };
}

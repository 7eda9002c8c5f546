import { computed, onBeforeUnmount, ref, type Ref } from "vue";

import { gather, type Page } from "@/lib/pages";

/** Choices that are offered at least, where so many fit. */
const LEAST = 30;
/** Pages that are read for more of them, once there are any. */
const MOST_READ = 6;

/** What is found in a listing of `what` as one types; only the last text counts. */
export function useSought<T>(
  what: string,
  path: (text: string) => string,
  read: (path: string) => Promise<Page<T>>,
) {
  const found = ref([]) as Ref<T[]>;
  const searching = ref(false);
  /** Whether there are more to look through than was done. */
  const more = ref(false);
  /** Said where nothing is found. */
  const none = computed(() =>
    more.value ? "None so far. Type more of its name." : `No ${what} has that in its name.`,
  );
  let turn = 0;
  onBeforeUnmount(() => turn++);

  async function search(text = "") {
    const mine = ++turn;
    searching.value = true;
    try {
      const { rows, next } = await gather(
        read,
        path(text),
        (lines, pages) => mine !== turn || lines >= LEAST || (lines > 0 && pages >= MOST_READ),
      );
      if (mine !== turn) return;
      found.value = rows;
      more.value = next !== undefined;
    } finally {
      if (mine === turn) searching.value = false;
    }
  }

  return { found, searching, none, search };
}

import { ref, watch } from "vue";

import { api, PAGE, type RosterLine, type StageCount } from "@/api/client";
import { useLive } from "@/composables/useLive";

/** The roster: filtered lines, counts by stage, kept true by live events. */
export function useRoster() {
  const lines = ref<RosterLine[]>([]);
  const counts = ref<StageCount[]>([]);
  const stage = ref("");
  const text = ref("");
  const pages = ref(1);
  const more = ref(false);
  const loaded = ref(false);
  let turn = 0;

  async function reload() {
    const mine = ++turn;
    const [read, stages] = await Promise.all([readPages(), api.stages()]);
    // An older answer must not overwrite a newer one.
    if (mine !== turn) return;
    lines.value = read;
    counts.value = stages;
    more.value = read.length === pages.value * PAGE;
    loaded.value = true;
  }

  async function readPages() {
    const read: RosterLine[] = [];
    for (let page = 0; page < pages.value; page++) {
      const after = read.at(-1)?.host;
      const next = await api.roster({ stage: stage.value, text: text.value.trim(), after });
      read.push(...next);
      if (next.length < PAGE) break;
    }
    return read;
  }

  watch([stage, text], () => {
    pages.value = 1;
    void reload();
  });
  useLive(() => true, reload);

  function showMore() {
    pages.value += 1;
    void reload();
  }

  return { lines, counts, stage, text, more, loaded, showMore };
}

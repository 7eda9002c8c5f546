import { ref, watch } from "vue";

import { api, type RosterLine, type StageCount } from "@/api/client";
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
    lines.value = read.read;
    counts.value = stages;
    more.value = read.more;
    loaded.value = true;
  }

  async function readPages() {
    const read: RosterLine[] = [];
    let path: string | undefined = api.roster({ stage: stage.value, text: text.value.trim() });
    for (let turn = 0; turn < pages.value && path; turn++) {
      const { rows, next }: { rows: RosterLine[]; next?: string } = await api.rosterPage(path);
      read.push(...rows);
      path = next;
    }
    return { read, more: path !== undefined };
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

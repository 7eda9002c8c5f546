import { computed, ref, shallowRef, watch } from "vue";

import { api, type Intake, type IntakeProgress, type IntakeRow } from "@/api/client";
import { useAttempt } from "@/composables/useAttempt";

/** How long after the last letter a table is judged, in milliseconds. */
const PAUSE = 400;

/** A table of domains: judged as it is typed, and taken in when somebody says so. */
export function useIntake() {
  const table = ref("");
  const answer = shallowRef<Intake>();
  const progress = ref<IntakeProgress>();
  const { busy, errors, attempt } = useAttempt("table");
  let timer: number | undefined;
  let turn = 0;

  async function judge() {
    const mine = ++turn;
    if (!table.value.trim()) {
      answer.value = undefined;
      errors.value = {};
      return;
    }
    await attempt(async () => {
      const judged = await api.intake(table.value, true, () => undefined);
      if (mine === turn) answer.value = judged;
    });
    if (errors.value.table && mine === turn) answer.value = undefined;
  }

  watch(table, () => {
    window.clearTimeout(timer);
    timer = window.setTimeout(() => void judge(), PAUSE);
  });

  async function takeIn() {
    turn += 1;
    await attempt(async () => {
      answer.value = await api.intake(table.value, false, (told) => (progress.value = told));
    });
    progress.value = undefined;
  }

  const count = (result: IntakeRow["result"]) =>
    answer.value?.results.find((one) => one.result === result)?.count ?? 0;
  const fresh = computed(() => count("new"));

  return { table, answer, progress, busy, errors, fresh, takeIn };
}

<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, onUnmounted, ref } from "vue";

import { api, listing, type Job, type JobItem } from "@/api/client";
import JobBar from "@/components/JobBar.vue";
import ResultCounts from "@/components/ResultCounts.vue";
import { useNow } from "@/composables/useNow";
import { usePages } from "@/composables/usePages";
import { STATES, words } from "@/lib/act";
import { exact, span } from "@/lib/time";
import { useSession } from "@/stores/session";

import { selected } from "./selected";

// One job: how far it has come, and what it did to each domain.
const props = defineProps<{ id: string }>();
const session = useSession();
const now = useNow();
const job = ref<Job>();
const missing = ref("");
const only = ref<NonNullable<JobItem["result"]>>();

const { rows, more, loaded, reload, showMore } = usePages<JobItem>(
  () => listing(`jobs/${props.id}/domains`, { result: only.value }),
  async (path) => {
    try {
      job.value = await api.job(props.id);
      return await api.jobItems(path);
    } catch (problem) {
      missing.value = (problem as Error).message;
      return { rows: [] };
    }
  },
  () => false,
);
const timer = window.setInterval(() => job.value && !job.value.ended_at && reload(), 1500);
onUnmounted(() => window.clearInterval(timer));

/** The filters of the roster that leave the same domains. */
const asked = computed(() => {
  const filters = Object.entries(job.value?.domains ?? {});
  return Object.fromEntries(filters.map(([name, value]) => [name, String(value)]));
});
const told = computed(() => {
  if (!job.value) return "";
  const { created_at, ended_at, by } = job.value;
  const begun = `begun ${span(now.value - Date.parse(created_at))} ago by ${by ?? "the service"}`;
  if (!ended_at) return begun;
  return `${begun}, ended after ${span(Date.parse(ended_at) - Date.parse(created_at))}`;
});

const NAMES = { changed: "done", unchanged: "so already", refused: "could not be" };
const MOODS = { changed: "well", unchanged: undefined, refused: "refused" } as const;
const RESULTS = ["changed", "unchanged", "refused"] as const;
const counts = computed(() =>
  RESULTS.map((result) => ({
    result,
    count: job.value?.[result] ?? 0,
    words: NAMES[result],
    mood: MOODS[result],
  })),
);

async function stop() {
  job.value = await api.stopJob(props.id);
  await reload();
}
</script>

<template>
  <section class="page">
    <p v-if="missing" role="alert" class="soft">{{ missing }}</p>
    <template v-else-if="job">
      <header>
        <h1>{{ words(job.act) }}</h1>
        <p>
          <RouterLink :to="{ name: 'roster', query: asked }">{{
            selected(job.domains)
          }}</RouterLink>
        </p>
        <p class="state" :data-state="job.state">
          <JobBar :job="job" /> {{ STATES[job.state] }}
          <span class="soft" :title="exact(job.created_at)">
            {{ told }}
          </span>
          <ElButton v-if="!job.ended_at && session.mayOperate" type="danger" @click="stop"
            >Stop it</ElButton
          >
        </p>
      </header>
      <ResultCounts v-model="only" :counts="counts" label="Domains by result" />
      <table v-if="rows.length">
        <thead>
          <tr>
            <th scope="col">Domain</th>
            <th scope="col">What was done</th>
            <th scope="col">Because</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="item in rows" :key="item.host" :data-result="item.result">
            <td>
              <RouterLink
                class="record"
                data-row
                :to="{ name: 'domain', params: { host: item.host } }"
                >{{ item.host }}</RouterLink
              >
            </td>
            <td>{{ item.result ? NAMES[item.result] : "not yet" }}</td>
            <td>{{ item.because }}</td>
          </tr>
        </tbody>
      </table>
      <p v-else-if="loaded" class="soft">None.</p>
      <p v-if="more"><ElButton @click="showMore">Show more</ElButton></p>
    </template>
  </section>
</template>

<style scoped>
.state {
  display: flex;
  flex-wrap: wrap;
  gap: var(--step);
  align-items: center;
}
</style>

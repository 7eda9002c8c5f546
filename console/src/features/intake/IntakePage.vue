<script setup lang="ts">
import { ElButton, ElInput, ElProgress } from "element-plus";
import { computed, ref, watch } from "vue";

import type { IntakeRow } from "@/api/client";
import ResultCounts from "@/components/ResultCounts.vue";
import { csv } from "@/lib/csv";
import { download } from "@/lib/download";

import { useIntake } from "./useIntake";

// Many domains at once: pasted or dropped, each row judged in its place, and then taken in.
const { table, answer, progress, busy, errors, fresh, takeIn } = useIntake();
const only = ref<IntakeRow["result"]>();
const shown = ref(100);
const over = ref(false);
const picker = ref<HTMLInputElement>();

const RESULTS: Record<IntakeRow["result"], string> = {
  new: "new",
  "taken-in": "taken in",
  "already-there": "already there",
  repeated: "asked for twice",
  "bad-name": "no name that can be taken",
  reserved: "reserved",
  "unknown-site": "unknown site",
  "other-account": "another account’s site",
  suspended: "account suspended",
  "over-allowance": "over the allowance",
  "bad-row": "cannot be read",
};
type Mood = "well" | "quiet" | "refused";
const WELL = new Set<IntakeRow["result"]>(["new", "taken-in"]);
const QUIET = new Set<IntakeRow["result"]>(["already-there", "repeated"]);
const mood = (result: IntakeRow["result"]): Mood =>
  WELL.has(result) ? "well" : QUIET.has(result) ? "quiet" : "refused";
/** A shape for each, which the colour only repeats. */
const MARKS = { well: "●", quiet: "◐", refused: "✕" };

const counts = computed(() =>
  (answer.value?.results ?? []).map(({ result, count }) => {
    const shown = mood(result);
    return { result, count, words: RESULTS[result], mood: shown === "quiet" ? undefined : shown };
  }),
);
const rows = computed(() =>
  (answer.value?.rows ?? []).filter((row) => !only.value || row.result === only.value),
);
watch([answer, only], () => (shown.value = 100));
watch(answer, (answer) => {
  if (!answer?.results.some((one) => one.result === only.value)) only.value = undefined;
});

async function read(file?: File | null) {
  over.value = false;
  if (file) table.value = await file.text();
}
const pick = (event: Event) => read((event.target as HTMLInputElement).files?.[0]);

function save() {
  const head = ["line", "host", "site", "result", "because"];
  const lines = (answer.value?.rows ?? []).map((row) => [
    String(row.line),
    row.host,
    row.site,
    row.result,
    row.because ?? "",
  ]);
  download("intake.csv", csv([head, ...lines]));
}
</script>

<template>
  <section class="page">
    <header>
      <h1>Intake</h1>
      <p class="soft">
        A line for each domain. The first line names the columns: <code>host</code> and
        <code>site</code>, and <code>account</code>, <code>pair</code> and
        <code>by_zone</code> where they are wanted. The same table again changes nothing.
      </p>
    </header>
    <form
      :class="{ over }"
      @submit.prevent="takeIn"
      @dragover.prevent="over = true"
      @dragleave="over = false"
      @drop.prevent="read($event.dataTransfer?.files[0])"
    >
      <label for="table">The table, pasted or dropped here</label>
      <ElInput
        id="table"
        v-model="table"
        type="textarea"
        :rows="8"
        spellcheck="false"
        class="table"
        placeholder="host,site&#10;timetable.onswick.example,onswick"
        :aria-invalid="Boolean(errors.table)"
        aria-describedby="table-error"
      />
      <p v-if="errors.table" id="table-error" role="alert" class="error">{{ errors.table }}</p>
      <div class="tools">
        <ElButton @click="picker?.click()">Choose a file</ElButton>
        <input ref="picker" type="file" accept=".csv,.tsv,.txt,text/csv" hidden @change="pick" />
        <ElButton v-if="answer" @click="save">Save the result as CSV</ElButton>
        <ElButton
          type="primary"
          native-type="submit"
          class="take"
          :loading="busy"
          :disabled="!fresh"
          >{{ fresh ? `Take in ${fresh}` : "Nothing to take in" }}</ElButton
        >
      </div>
      <ElProgress
        v-if="progress?.total"
        :percentage="Math.floor((100 * progress.done) / progress.total)"
        :aria-label="`${progress.done} of ${progress.total} rows are written`"
      />
    </form>
    <template v-if="answer">
      <ResultCounts v-model="only" :counts="counts" label="Rows by result" />
      <table>
        <thead>
          <tr>
            <th scope="col">Line</th>
            <th scope="col">Domain</th>
            <th scope="col">Site</th>
            <th scope="col">Result</th>
            <th scope="col">Because</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="row in rows.slice(0, shown)" :key="row.line" :data-result="row.result">
            <td class="number">{{ row.line }}</td>
            <td class="record name">{{ row.host }}</td>
            <td>{{ row.site }}</td>
            <td class="result" :class="mood(row.result)">
              <span aria-hidden="true">{{ MARKS[mood(row.result)] }}</span>
              {{ RESULTS[row.result] }}
            </td>
            <td>{{ row.because }}</td>
          </tr>
        </tbody>
      </table>
      <p v-if="rows.length > shown">
        <ElButton @click="shown += 400">Show more of {{ rows.length }}</ElButton>
      </p>
    </template>
  </section>
</template>

<style scoped>
form.over {
  outline: 2px dashed var(--act);
  outline-offset: 6px;
}

.table :deep(textarea) {
  font-family: var(--mono);
  font-size: 14px;
}

.error {
  margin: 4px 0 0;
  color: var(--blocked);
}

.tools {
  display: flex;
  gap: var(--step);
  margin: var(--step) 0;
}

.take {
  margin-left: auto;
}

.name {
  min-width: 260px;
}

.number {
  font-variant-numeric: tabular-nums;
}

.result {
  white-space: nowrap;
}

td.well {
  color: var(--act);
}

td.refused {
  color: var(--blocked);
}
</style>

<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, onMounted, ref } from "vue";

import { api, type BaselineView, type Claim, Problem } from "@/api/client";
import { exact } from "@/lib/time";
import { download } from "@/lib/download";

// The customer's records as they were at enrolment, beside those of now.
const props = defineProps<{ claim: Claim; zone: string }>();
const view = ref<BaselineView | null>(null);
const error = ref("");
const busy = ref(false);
const WORDS = { same: "as it was", gone: "gone", new: "new" } as const;

const rows = computed(() => view.value?.compared ?? []);
const short = (owner: string) =>
  owner === props.zone
    ? "@"
    : owner.replace(new RegExp(`\\.${props.zone.replaceAll(".", "\\.")}$`), "");

/** As zone files write it, more or less: for reading, not for loading. */
function value(data: { type: string; value: unknown }): string {
  const held = data.value;
  if (typeof held !== "object" || held === null) return String(held);
  const fields = held as Record<string, unknown>;
  switch (data.type) {
    case "MX":
      return `${fields.preference} ${fields.exchange}`;
    case "CAA":
      return `${fields.flags} ${fields.tag} "${fields.value}"`;
    case "SOA":
      return `serial ${fields.serial}`;
    default:
      return Object.values(fields).flat().join(" ");
  }
}

async function read() {
  busy.value = true;
  error.value = "";
  try {
    view.value = await api.baseline(props.claim);
  } catch (problem) {
    if (!(problem instanceof Problem)) throw problem;
    error.value = problem.message;
  } finally {
    busy.value = false;
  }
}

onMounted(read);
</script>

<template>
  <p v-if="error" role="alert" class="error">{{ error }}</p>
  <p v-else-if="!view" class="soft">Reading the zone …</p>
  <p v-else-if="!view.baseline">
    Not taken yet: the zone has not been read since the domain was taken in.
  </p>
  <div v-else>
    <div class="tools">
      <span class="soft" :title="exact(view.baseline.at)">
        Read at {{ view.baseline.server }} on {{ view.baseline.at.slice(0, 10) }}, before anything
        was changed.
      </span>
      <ElButton :loading="busy" @click="read">Compare again</ElButton>
      <ElButton @click="download(`${view.baseline.zone}.before.zone`, view.zone_lines)">
        Save as zone-file lines
      </ElButton>
    </div>
    <table v-if="rows.length">
      <thead>
        <tr>
          <th scope="col">Now</th>
          <th scope="col">Type</th>
          <th scope="col">Host</th>
          <th scope="col">Value</th>
          <th scope="col">TTL</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(row, index) in rows" :key="index" :class="row.since">
          <td class="since">{{ WORDS[row.since] }}</td>
          <td class="record">{{ row.record.data.type }}</td>
          <td class="record">{{ short(row.record.owner) }}</td>
          <td class="record">{{ value(row.record.data) }}</td>
          <td class="record">{{ row.record.ttl }}</td>
        </tr>
      </tbody>
    </table>
    <template v-else>
      <p>The zone cannot be read now. As it was:</p>
      <pre class="record">{{ view.zone_lines }}</pre>
    </template>
  </div>
</template>

<style scoped>
.tools {
  display: flex;
  gap: var(--step);
  align-items: center;
  margin-bottom: calc(var(--step) * 2);
}

.tools span {
  margin-right: auto;
}

.since {
  width: 90px;
}

.gone .since {
  color: var(--blocked);
  font-weight: 600;
}

.gone td:not(.since) {
  text-decoration: line-through;
}

.new .since {
  color: var(--act);
  font-weight: 600;
}

.same .since {
  color: var(--ink-soft);
}

.error {
  color: var(--blocked);
}
</style>

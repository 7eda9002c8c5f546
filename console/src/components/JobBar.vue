<script setup lang="ts">
import { computed } from "vue";

import type { Job } from "@/api/client";

// How far a job has come, to scale: changed, so already, refused, and what is left.
const props = defineProps<{ job: Job }>();
const parts = computed(() => {
  const { total, changed, unchanged, refused } = props.job;
  const share = (count: number) => `${total ? (100 * count) / total : 0}%`;
  return { changed: share(changed), unchanged: share(unchanged), refused: share(refused) };
});
const told = computed(() => {
  const { total, changed, unchanged, refused } = props.job;
  return `${changed + unchanged + refused} of ${total}`;
});
</script>

<template>
  <span class="row">
    <span class="bar" role="img" :aria-label="told">
      <i class="changed" :style="{ width: parts.changed }" />
      <i class="unchanged" :style="{ width: parts.unchanged }" />
      <i class="refused" :style="{ width: parts.refused }" />
    </span>
    <span class="number">{{ told }}</span>
  </span>
</template>

<style scoped>
.row {
  display: inline-flex;
  gap: var(--step);
  align-items: center;
  margin-right: var(--step);
}

.bar {
  display: inline-flex;
  width: 160px;
  height: 8px;
  border: 1px solid var(--ink-soft);
}

.changed {
  background: var(--act);
}

.unchanged {
  background: var(--hairline);
}

.refused {
  background: repeating-linear-gradient(45deg, var(--blocked) 0 3px, var(--sheet) 3px 5px);
}

.number {
  font-variant-numeric: tabular-nums;
  white-space: nowrap;
}
</style>

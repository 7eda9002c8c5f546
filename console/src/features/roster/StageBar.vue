<script setup lang="ts">
import { computed } from "vue";

import type { StageCount } from "@/api/client";

// The fleet as one bar: how many domains stand at each stage, to scale.
const props = defineProps<{ counts: StageCount[] }>();
const chosen = defineModel<string>({ required: true });
const total = computed(() => props.counts.reduce((sum, c) => sum + c.count, 0));
const choose = (stage: string) => (chosen.value = chosen.value === stage ? "" : stage);
</script>

<template>
  <div class="bar" role="group" aria-label="Domains by stage">
    <button
      v-for="entry in counts"
      :key="entry.stage"
      type="button"
      :class="{ live: entry.stage === 'live' }"
      :style="{ flexGrow: total ? entry.count / total : 0 }"
      :aria-pressed="chosen === entry.stage"
      @click="choose(entry.stage)"
    >
      <span class="count">{{ entry.count }}</span> {{ entry.stage }}
    </button>
  </div>
</template>

<style scoped>
.bar {
  display: flex;
  gap: 2px;
}

button {
  min-width: 112px;
  padding: 6px 10px 8px;
  border: 0;
  border-top: 6px solid var(--waiting);
  background: none;
  color: var(--ink);
  font: inherit;
  text-align: left;
  cursor: pointer;
}

.live {
  border-top-color: var(--act);
}

button[aria-pressed="true"] {
  background: var(--act-wash);
}

.count {
  font-size: 22px;
  font-weight: 600;
  font-variant-numeric: tabular-nums;
}
</style>

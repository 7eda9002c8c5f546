<script setup lang="ts">
import { computed } from "vue";

import type { SpreadPoint, Wait } from "@/api/client";
import { clock, exact, until } from "@/lib/time";

import SpreadChart from "./SpreadChart.vue";

// Who sees the routing, who still holds an older answer, and until when.
const props = defineProps<{ waits: Wait[]; spreads: SpreadPoint[]; now: number }>();
const seeing = computed(() => props.waits.filter((wait) => wait.sees).length);
const answering = computed(() => props.waits.filter((wait) => wait.answers !== false).length);

function told(wait: Wait): string {
  if (wait.sees) return "sees it";
  if (wait.failure) return wait.failure;
  if (wait.answers === false) return "is silent, and is left out";
  if (!wait.holds.length) return "does not see it yet";
  const held = `still holds ${wait.holds.join(", ")}`;
  if (!wait.until) return `${held}, and does not say until when`;
  return `${held}, until about ${clock(wait.until)}, ${until(wait.until, props.now)}`;
}
</script>

<template>
  <p>{{ seeing }} of {{ answering }} vantages that answer see it.</p>
  <div class="waiting">
    <ul>
      <li v-for="wait in waits" :key="wait.vantage" :class="{ sees: wait.sees }">
        <strong>{{ wait.vantage }}</strong>
        <span :title="wait.until ? exact(wait.until) : ''">{{ told(wait) }}</span>
      </li>
    </ul>
    <SpreadChart :spreads="spreads" :waits="waits" :now="now" />
  </div>
</template>

<style scoped>
p {
  margin: var(--step) 0;
}

.waiting {
  display: grid;
  grid-template-columns: minmax(300px, 1fr) 2fr;
  gap: calc(var(--step) * 3);
}

ul {
  margin: 0;
  padding: 0;
  list-style: none;
}

li {
  display: grid;
  grid-template-columns: 64px 1fr;
  gap: var(--step);
  padding: 5px 0;
  border-bottom: 1px solid var(--hairline);
  color: var(--waiting);
}

li strong {
  color: var(--ink);
}

li.sees {
  color: var(--act);
}
</style>

<script setup lang="ts">
import { computed } from "vue";

import type { Held } from "@/api/client";
import { exact, span } from "@/lib/time";

// The life of a certificate as a line: what has passed is solid, an open post
// stands where it is renewed, a bar where it runs out.
const props = defineProps<{ held: Held; now: number }>();

const start = computed(() => Date.parse(props.held.facts.not_before));
const end = computed(() => Date.parse(props.held.facts.not_after));
const place = (at: number) =>
  Math.min(1, Math.max(0, (at - start.value) / (end.value - start.value))) * 960 + 20;
const x = computed(() => ({
  now: place(props.now),
  renewal: props.held.renew_at ? place(Date.parse(props.held.renew_at)) : null,
}));
const day = (at: string) => at.slice(0, 10);
const left = computed(() => end.value - props.now);
const told = computed(() => {
  const runs = left.value > 0 ? `runs out in ${span(left.value)}` : "has run out";
  return `Valid from ${day(props.held.facts.not_before)}; ${runs}.`;
});
/** A label leans to the side on which there is room for it. */
const anchor = (at: number) => (at < 120 ? "start" : at > 880 ? "end" : "middle");
</script>

<template>
  <svg viewBox="0 0 1000 92" role="img" :aria-label="told" :class="{ soon: left < 14 * 86400000 }">
    <line class="ahead" x1="20" x2="980" y1="46" y2="46" />
    <line class="passed" x1="20" :x2="x.now" y1="46" y2="46" />
    <circle class="now" :cx="x.now" cy="46" r="6" />
    <text :x="x.now" y="24" :text-anchor="anchor(x.now)">now</text>
    <template v-if="x.renewal !== null">
      <rect class="renewal" :x="x.renewal - 6" y="32" width="12" height="28" />
      <text :x="x.renewal" y="82" :text-anchor="anchor(x.renewal)">
        renewed {{ day(held.renew_at ?? "") }}
        <title>{{ exact(held.renew_at ?? "") }}</title>
      </text>
    </template>
    <rect class="end" x="974" y="28" width="6" height="36" />
    <text x="20" y="82" text-anchor="start">{{ day(held.facts.not_before) }}</text>
    <text x="980" y="18" text-anchor="end">
      runs out {{ day(held.facts.not_after) }}
      <title>{{ exact(held.facts.not_after) }}</title>
    </text>
  </svg>
</template>

<style scoped>
svg {
  display: block;
  width: 100%;
  max-width: 1000px;
}

.ahead {
  stroke: var(--hairline);
  stroke-width: 3;
}

.passed {
  stroke: var(--act);
  stroke-width: 3;
}

.now {
  fill: var(--act);
}

.renewal {
  fill: var(--paper);
  stroke: var(--act);
  stroke-width: 2;
}

.end {
  fill: var(--ink-soft);
}

.soon .end {
  fill: var(--blocked);
}

text {
  fill: var(--ink-soft);
  font-size: 14px;
}
</style>

<script setup lang="ts">
import { computed } from "vue";

import type { Times } from "@/api/client";
import { span } from "@/lib/time";

// How long something usually takes, on a scale from a second to two days on which each mark is
// many times the one before.
const props = defineProps<{ what: string; times?: Times | null }>();
const LONGEST = 172800;
const at = (seconds: number) =>
  `${(Math.min(1, Math.log1p(seconds) / Math.log1p(LONGEST)) * 100).toFixed(1)}%`;
const told = (seconds: number) => span(seconds * 1000);
const words = computed(() =>
  props.times
    ? `half within ${told(props.times.median)}, nine of ten within ${told(props.times.ninetieth)}`
    : "not known yet",
);
</script>

<template>
  <div class="times" :title="times ? `From ${times.cases} domains` : ''">
    <span class="what">{{ what }}</span>
    <span class="scale" aria-hidden="true">
      <i v-for="mark in [1, 60, 3600, 86400]" :key="mark" :style="{ left: at(mark) }" />
      <template v-if="times">
        <span class="most" :style="{ width: at(times.ninetieth) }" />
        <span class="half" :style="{ width: at(times.median) }" />
      </template>
    </span>
    <span class="said">{{ words }}</span>
  </div>
</template>

<style scoped>
.times {
  display: grid;
  grid-template-columns: 96px minmax(120px, 1fr);
  gap: 0 var(--step);
  align-items: center;
  padding: 2px 0;
}

.scale {
  position: relative;
  height: 10px;
  border-bottom: 1px solid var(--ink-soft);
}

.scale i {
  position: absolute;
  bottom: 0;
  height: 10px;
  border-left: 1px solid var(--hairline);
}

.most,
.half {
  position: absolute;
  bottom: 0;
  left: 0;
  height: 7px;
}

.most {
  border: 1px solid var(--act);
  background: var(--act-wash);
  box-sizing: border-box;
}

.half {
  background: var(--act);
}

.said {
  grid-column: 2;
  color: var(--ink-soft);
  font-size: 14px;
}
</style>

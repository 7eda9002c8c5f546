<script setup lang="ts">
import { computed } from "vue";

import type { Times } from "@/api/client";
import { span } from "@/lib/time";

// How long something usually takes, on a scale from a second to two days on which each mark is
// many times the one before.
const props = defineProps<{ what: string; times?: Times | null; marked?: boolean }>();
const LONGEST = 172800;
const MARKS = { 1: "1 s", 60: "1 min", 3600: "1 h", 86400: "1 day" };
const at = (seconds: number) =>
  `${(Math.min(1, Math.log1p(seconds) / Math.log1p(LONGEST)) * 100).toFixed(1)}%`;
const told = (seconds: number) => (seconds ? `within ${span(seconds * 1000)}` : "at once");
const words = computed(() =>
  props.times
    ? `half ${told(props.times.median)}, nine of ten ${told(props.times.ninetieth)}`
    : "not known yet",
);
</script>

<template>
  <div class="times" :title="times ? `From ${times.cases} domains` : ''">
    <span class="what">{{ what }}</span>
    <span class="scale" aria-hidden="true">
      <i v-for="(mark, seconds) in MARKS" :key="mark" :style="{ left: at(Number(seconds)) }" />
      <template v-if="times">
        <span class="most" :style="{ width: at(times.ninetieth) }" />
        <span class="half" :style="{ width: at(times.median) }" />
      </template>
    </span>
    <span v-if="marked" class="marks" aria-hidden="true">
      <i v-for="(mark, seconds) in MARKS" :key="mark" :style="{ left: at(Number(seconds)) }">{{
        mark
      }}</i>
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

.marks {
  position: relative;
  grid-column: 2;
  height: 18px;
}

.marks i {
  position: absolute;
  transform: translateX(-50%);
  color: var(--ink-soft);
  font-size: 12px;
  font-style: normal;
  white-space: nowrap;
}

.said {
  grid-column: 2;
  color: var(--ink-soft);
  font-size: 14px;
}
</style>

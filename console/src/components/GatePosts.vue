<script setup lang="ts">
import { computed } from "vue";

import type { Gate } from "@/api/client";

// A line with four posts, one for each gate. The line runs on through what is
// passed and ends in a dot before the first gate that is not.
const props = defineProps<{ gates: Gate[]; large?: boolean }>();

const FIRST = 20;
const APART = 36;
const TOP = 4;
const FOOT = 24;
const MIDDLE = 14;

const posts = computed(() =>
  props.gates.map((gate, index) => ({ ...gate, x: FIRST + index * APART })),
);
const stop = computed(() => posts.value.findIndex((post) => post.state !== "passed"));
const end = computed(() =>
  stop.value < 0 ? FIRST + 4 * APART - 16 : posts.value[stop.value].x - 9,
);
const label = computed(() => props.gates.map((g) => `${g.name} ${g.state}`).join(", "));
</script>

<template>
  <svg
    class="posts"
    :class="{ large }"
    viewBox="0 0 150 28"
    role="img"
    :aria-label="label"
    preserveAspectRatio="xMinYMid meet"
  >
    <line class="run" x1="2" :x2="end" :y1="MIDDLE" :y2="MIDDLE" />
    <circle v-if="stop >= 0" class="dot" :cx="end" :cy="MIDDLE" r="3" />
    <g v-for="post in posts" :key="post.name" :class="post.state">
      <line
        v-if="post.state === 'lapsed'"
        class="behind"
        :x1="post.x - 9"
        :x2="post.x + 13"
        :y1="MIDDLE"
        :y2="MIDDLE"
      />
      <rect :x="post.x - 3" :y="TOP" width="6" :height="FOOT - TOP" rx="1" />
      <line
        v-if="post.state === 'blocked'"
        class="across"
        :x1="post.x - 8"
        :x2="post.x + 8"
        :y1="MIDDLE"
        :y2="MIDDLE"
      />
    </g>
  </svg>
</template>

<style scoped>
.posts {
  width: 118px;
  height: 22px;
}

.large {
  width: 300px;
  height: 56px;
}

.run {
  stroke: var(--act);
  stroke-width: 2;
}

.dot {
  fill: var(--act);
}

rect {
  fill: var(--paper);
  stroke: var(--ink-soft);
  stroke-width: 1.5;
}

.passed rect {
  fill: var(--act);
  stroke: var(--act);
}

.blocked rect,
.across {
  stroke: var(--blocked);
}

.across {
  stroke-width: 4;
}

.lapsed rect,
.behind {
  stroke: var(--waiting);
}

.behind {
  stroke-width: 2;
  stroke-dasharray: 3 2;
}

.waiting rect {
  stroke: var(--waiting);
}
</style>

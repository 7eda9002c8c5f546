<script setup lang="ts">
import { computed } from "vue";

import type { GateStanding } from "@/api/client";

// A line with four posts, one for each gate. The line runs on through what is
// passed and ends in a dot before the first gate that is not.
const props = defineProps<{ gates: GateStanding[]; large?: boolean }>();

// Large, each post stands at the head of its quarter of the page.
const shape = computed(() =>
  props.large
    ? { first: 12, apart: 308, width: 1232, height: 48, thick: 12, reach: 20 }
    : { first: 20, apart: 36, width: 150, height: 28, thick: 6, reach: 7 },
);
const middle = computed(() => shape.value.height / 2);
const posts = computed(() =>
  props.gates.map((gate, index) => ({ ...gate, x: shape.value.first + index * shape.value.apart })),
);
const stop = computed(() => posts.value.findIndex((post) => post.state !== "passed"));
const end = computed(() =>
  stop.value < 0
    ? shape.value.width - 6
    : Math.max(3, posts.value[stop.value].x - shape.value.reach - 5),
);
const label = computed(() => props.gates.map((g) => `${g.name} ${g.state}`).join(", "));
</script>

<template>
  <svg
    class="posts"
    :class="{ large }"
    :viewBox="`0 0 ${shape.width} ${shape.height}`"
    role="img"
    :aria-label="label"
    preserveAspectRatio="xMinYMid meet"
  >
    <line class="run" x1="0" :x2="end" :y1="middle" :y2="middle" />
    <circle v-if="stop >= 0" class="dot" :cx="end" :cy="middle" :r="shape.thick / 2" />
    <g v-for="post in posts" :key="post.name" :class="post.state">
      <line
        v-if="post.state === 'lapsed'"
        class="behind"
        :x1="post.x - shape.reach"
        :x2="post.x + shape.reach"
        :y1="middle"
        :y2="middle"
      />
      <rect
        :x="post.x - shape.thick / 2"
        y="4"
        :width="shape.thick"
        :height="shape.height - 8"
        rx="1"
      />
      <line
        v-if="post.state === 'blocked'"
        class="across"
        :x1="post.x - shape.reach"
        :x2="post.x + shape.reach"
        :y1="middle"
        :y2="middle"
      />
    </g>
  </svg>
</template>

<style scoped>
.posts {
  display: inline-block;
  vertical-align: -5px;
  width: 118px;
  height: 22px;
}

.large {
  width: 100%;
  height: auto;
  overflow: visible;
}

.large .run {
  stroke-width: 3;
}

.large rect {
  stroke-width: 2;
}

.large .across {
  stroke-width: 7;
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

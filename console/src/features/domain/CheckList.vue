<script setup lang="ts">
import type { Check } from "@/api/client";

import VerdictMark from "@/components/VerdictMark.vue";

// What the CA will ask, and what it would find now.
defineProps<{ checks: Check[] }>();
const MARKS = { passed: "match", failed: "differs", waiting: "absent" } as const;
</script>

<template>
  <ul>
    <li v-for="check in checks" :key="check.name" :class="check.state">
      <VerdictMark :verdict="MARKS[check.state]" />
      <strong>{{ check.name }}</strong>
      <span class="state">{{ check.state }}</span>
      <span>{{ check.said }}</span>
    </li>
  </ul>
</template>

<style scoped>
ul {
  margin: 0;
  padding: 0;
  list-style: none;
}

li {
  display: grid;
  grid-template-columns: 20px 110px 80px 1fr;
  gap: var(--step);
  align-items: baseline;
  padding: 5px 0;
  border-bottom: 1px solid var(--hairline);
}

.passed .state {
  color: var(--act);
}

.waiting .state {
  color: var(--waiting);
}

.failed .state {
  color: var(--blocked);
}
</style>

<script setup lang="ts">
import type { Order } from "@/api/client";
import { clock, exact, until } from "@/lib/time";

// What happened with the latest order, and the CA's own words if it refused.
defineProps<{ order: Order; now: number }>();
</script>

<template>
  <ol>
    <li>
      <time class="record" :title="exact(order.placed_at)">{{ clock(order.placed_at) }}</time>
      Opened for {{ order.names.join(" and ") }}, to be shown by {{ order.method }}.
    </li>
    <li v-for="step in order.steps" :key="step.at">
      <time class="record" :title="exact(step.at)">{{ clock(step.at) }}</time> {{ step.said }}
    </li>
  </ol>
  <div v-if="order.problem" class="problem">
    <p>{{ order.problem.detail }}</p>
    <p class="record">{{ order.problem.type }}</p>
    <p v-for="sub in order.problem.subproblems ?? []" :key="sub.name">
      <span class="record">{{ sub.name }}</span> {{ sub.detail }}
    </p>
    <p v-if="order.retry_at" :title="exact(order.retry_at)">
      The next order may be placed {{ until(order.retry_at, now) }}.
    </p>
  </div>
</template>

<style scoped>
ol {
  margin: var(--step) 0 0;
  padding: 0;
  list-style: none;
}

li {
  display: grid;
  grid-template-columns: 90px 1fr;
  padding: 4px 0;
}

.problem {
  margin-top: var(--step);
  padding-left: calc(var(--step) * 2);
  border-left: 3px solid var(--blocked);
}

.problem p {
  margin: 4px 0;
}
</style>

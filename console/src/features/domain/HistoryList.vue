<script setup lang="ts">
import { computed } from "vue";

import type { Event } from "@/api/client";
import { clock, exact } from "@/lib/time";

const props = defineProps<{ events: Event[] }>();
const day = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "long", year: "numeric" });
const days = computed(() => {
  const told = new Map<string, Event[]>();
  for (const event of [...props.events].reverse()) {
    const name = day.format(new Date(event.time));
    told.set(name, [...(told.get(name) ?? []), event]);
  }
  return [...told];
});
</script>

<template>
  <template v-for="[name, told] in days" :key="name">
    <h3 v-if="days.length > 1">{{ name }}</h3>
    <ol>
      <li v-for="event in told" :key="event.id">
        <time class="record soft" :datetime="event.time" :title="exact(event.time)">{{
          clock(event.time)
        }}</time>
        <span>{{ event.told }}</span>
      </li>
    </ol>
  </template>
</template>

<style scoped>
h3 {
  margin-top: calc(var(--step) * 2);
  font-size: 15px;
}

ol {
  margin: 0;
  padding: 0;
  list-style: none;
}

li {
  display: grid;
  grid-template-columns: 90px 1fr;
  padding: 5px 0;
  border-bottom: 1px solid var(--hairline);
  overflow-wrap: anywhere;
}
</style>

<script setup lang="ts">
import { computed } from "vue";

import type { Event } from "@/api/client";
import { clock, exact } from "@/lib/time";

const props = defineProps<{ events: Event[] }>();
const newestFirst = computed(() => [...props.events].reverse());
</script>

<template>
  <ol>
    <li v-for="event in newestFirst" :key="event.id">
      <time class="record soft" :datetime="event.time" :title="exact(event.time)">{{
        clock(event.time)
      }}</time>
      <span>{{ event.told }}</span>
    </li>
  </ol>
</template>

<style scoped>
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

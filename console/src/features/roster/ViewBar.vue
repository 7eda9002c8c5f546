<script setup lang="ts">
import { ElButton, ElInput } from "element-plus";
import { computed, ref } from "vue";

import type { Filters } from "./useRoster";
import type { View } from "./useViews";

// Filters that somebody comes back to, by the names that they gave them.
const props = defineProps<{ views: View[]; filters: Filters }>();
const emit = defineEmits<{ keep: [name: string, filters: Filters]; drop: [name: string] }>();
const naming = ref(false);
const name = ref("");

const text = (filters: Filters) => JSON.stringify(Object.entries(filters).sort());
const shown = computed(() =>
  props.views.find((view) => text(view.filters) === text(props.filters)),
);
const isNew = computed(() => Object.keys(props.filters).length > 0 && !shown.value);

function keep() {
  if (name.value.trim()) emit("keep", name.value.trim(), { ...props.filters });
  naming.value = false;
  name.value = "";
}
</script>

<template>
  <nav v-if="views.length || isNew" class="views" aria-label="Saved views">
    <RouterLink
      v-for="view in views"
      :key="view.name"
      :to="{ name: 'roster', query: view.filters }"
      :aria-current="view === shown ? 'page' : undefined"
      >{{ view.name }}</RouterLink
    >
    <ElButton v-if="shown" link @click="emit('drop', shown.name)">Forget this view</ElButton>
    <form v-if="naming" @submit.prevent="keep">
      <ElInput v-model="name" aria-label="Name of the view" placeholder="Its name" autofocus />
      <ElButton native-type="submit">Save</ElButton>
    </form>
    <ElButton v-else-if="isNew" link @click="naming = true">Save this view</ElButton>
  </nav>
</template>

<style scoped>
.views {
  display: flex;
  flex-wrap: wrap;
  gap: var(--step) calc(var(--step) * 2);
  align-items: center;
}

form {
  display: flex;
  gap: var(--step);
}

[aria-current] {
  border-bottom: 2px solid var(--act);
  color: var(--ink);
  text-decoration: none;
}
</style>

<script setup lang="ts" generic="Result extends string">
// How many lines came to each result; pressing one shows those alone, pressing it again all.
defineProps<{
  counts: { result: Result; count: number; words: string; mood?: "well" | "refused" }[];
  label: string;
}>();
const only = defineModel<Result | undefined>({ required: true });
const choose = (result: Result) => (only.value = only.value === result ? undefined : result);
</script>

<template>
  <div class="results" role="group" :aria-label="label" aria-live="polite">
    <button
      v-for="one in counts"
      :key="one.result"
      type="button"
      :class="one.mood"
      :aria-pressed="only === one.result"
      @click="choose(one.result)"
    >
      <span class="count">{{ one.count }}</span> {{ one.words }}
    </button>
  </div>
</template>

<style scoped>
.results {
  display: flex;
  flex-wrap: wrap;
  gap: 2px;
}

button {
  padding: 6px 10px 8px;
  border: 0;
  border-top: 4px solid var(--hairline);
  background: none;
  color: var(--ink);
  text-align: left;
  cursor: pointer;
}

.well {
  border-top-color: var(--act);
}

.refused {
  border-top-color: var(--blocked);
}

[aria-pressed="true"] {
  background: var(--act-wash);
}

.count {
  font-size: 20px;
  font-weight: 600;
  font-variant-numeric: tabular-nums;
}
</style>

<script setup lang="ts">
import { ref } from "vue";

// A value that goes into one box of a DNS editor, copied with one press.
const props = defineProps<{ value: string; what: string }>();
const copied = ref(false);

async function copy() {
  await navigator.clipboard.writeText(props.value);
  copied.value = true;
  window.setTimeout(() => (copied.value = false), 1500);
}
</script>

<template>
  <button type="button" class="record" :title="`Copy the ${what}`" @click="copy">
    <span>{{ value }}</span>
    <span class="hint" aria-live="polite">{{ copied ? "copied" : "copy" }}</span>
  </button>
</template>

<style scoped>
button {
  padding: 0;
  border: 0;
  background: none;
  color: var(--ink);
  text-align: left;
  cursor: pointer;
}

.hint {
  margin-left: 8px;
  color: var(--act);
  font-family: var(--prose);
  font-size: 13px;
  opacity: 0;
}

button:hover .hint,
button:focus-visible .hint {
  opacity: 1;
}
</style>

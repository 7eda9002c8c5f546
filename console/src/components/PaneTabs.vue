<script setup lang="ts">
import { computed } from "vue";
import { useRoute, useRouter } from "vue-router";

// Which pane of a page is open; kept in the address, so that it can be passed on.
const props = defineProps<{ label: string; panes: Record<string, string> }>();
const route = useRoute();
const router = useRouter();

const pane = computed(() => {
  const asked = String(route.query.pane);
  return asked in props.panes ? asked : Object.keys(props.panes)[0];
});
const show = (pane: string) => router.replace({ query: { pane } });
</script>

<template>
  <div class="panes" role="tablist" :aria-label="label">
    <button
      v-for="(words, one) in panes"
      :key="one"
      type="button"
      role="tab"
      :aria-selected="pane === one"
      @click="show(one)"
    >
      {{ words }}
    </button>
  </div>
  <slot :pane="pane" />
</template>

<style scoped>
.panes {
  display: flex;
  gap: calc(var(--step) * 3);
  border-bottom: 1px solid var(--hairline);
}

.panes button {
  padding: 6px 0;
  border: 0;
  border-bottom: 2px solid transparent;
  background: none;
  color: var(--ink-soft);
  cursor: pointer;
}

.panes [aria-selected="true"] {
  border-bottom-color: var(--act);
  color: var(--ink);
}
</style>

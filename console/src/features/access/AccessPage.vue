<script setup lang="ts">
import { computed } from "vue";
import { useRoute, useRouter } from "vue-router";

import { useSession } from "@/stores/session";

import AuditPane from "./AuditPane.vue";
import KeysPane from "./KeysPane.vue";
import SessionsPane from "./SessionsPane.vue";

// Who may do what, and who did.
const route = useRoute();
const router = useRouter();
const session = useSession();

const PANES = { keys: "Keys", sessions: "Sessions", audit: "Changes" };
type Pane = keyof typeof PANES;
const panes = computed(
  () => (session.isNarrow ? ["audit"] : ["keys", "sessions", "audit"]) as Pane[],
);
const pane = computed(() => {
  const asked = route.query.pane as Pane;
  return panes.value.includes(asked) ? asked : panes.value[0];
});
const show = (pane: Pane) => router.replace({ query: { pane } });
</script>

<template>
  <section class="page">
    <h1>Access</h1>
    <div class="panes" role="tablist" aria-label="Access">
      <button
        v-for="one in panes"
        :key="one"
        type="button"
        role="tab"
        :aria-selected="pane === one"
        @click="show(one)"
      >
        {{ PANES[one] }}
      </button>
    </div>
    <KeysPane v-if="pane === 'keys'" />
    <SessionsPane v-else-if="pane === 'sessions'" />
    <AuditPane v-else />
  </section>
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

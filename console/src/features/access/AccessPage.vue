<script setup lang="ts">
import { computed } from "vue";

import PaneTabs from "@/components/PaneTabs.vue";
import { useSession } from "@/stores/session";

import AuditPane from "./AuditPane.vue";
import KeysPane from "./KeysPane.vue";
import SessionsPane from "./SessionsPane.vue";

// Who may do what, and who did.
const session = useSession();
const ALL: Record<string, string> = { keys: "Keys", sessions: "Sessions", audit: "Changes" };
const NARROW: Record<string, string> = { audit: "Changes" };
const panes = computed(() => (session.isNarrow ? NARROW : ALL));
</script>

<template>
  <section class="page">
    <h1>Access</h1>
    <PaneTabs v-slot="{ pane }" label="Access" :panes="panes">
      <KeysPane v-if="pane === 'keys'" />
      <SessionsPane v-else-if="pane === 'sessions'" />
      <AuditPane v-else />
    </PaneTabs>
  </section>
</template>

<script setup lang="ts">
import PaneTabs from "@/components/PaneTabs.vue";

import PreviewPane from "./PreviewPane.vue";
import ReceiversPane from "./ReceiversPane.vue";
import SentPane from "./SentPane.vue";

// What was said to whom.
const PANES = { sent: "Sent", hooks: "Hooks", people: "People", mails: "Mails" };
</script>

<template>
  <section class="page">
    <h1>Notices</h1>
    <PaneTabs v-slot="{ pane }" label="Notices" :panes="PANES">
      <SentPane v-if="pane === 'sent'" />
      <ReceiversPane v-else-if="pane === 'hooks'" key="hooks" way="hooks" />
      <ReceiversPane v-else-if="pane === 'people'" key="people" way="recipients" />
      <PreviewPane v-else />
    </PaneTabs>
  </section>
</template>

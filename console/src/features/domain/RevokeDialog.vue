<script setup lang="ts">
import { ElButton, ElDialog, ElRadio, ElRadioGroup } from "element-plus";
import { ref } from "vue";

// Asks why before a certificate is revoked, which cannot be taken back.
defineProps<{ host: string; busy: boolean }>();
const emit = defineEmits<{ revoke: [reason: string] }>();
const open = defineModel<boolean>({ required: true });
const reason = ref("keyCompromise");
const REASONS = {
  keyCompromise: "Somebody else may have its private key",
  superseded: "Another certificate has taken its place",
  unspecified: "For a reason that is not told",
} as const;
</script>

<template>
  <ElDialog v-model="open" :title="`Revoke the certificate of ${host}`" width="520" append-to-body>
    <p>
      It cannot be taken back. Another one is ordered at once, with another key; until it is there,
      the old one goes on being served.
    </p>
    <ElRadioGroup v-model="reason" class="reasons">
      <ElRadio v-for="(words, word) in REASONS" :key="word" :value="word">{{ words }}</ElRadio>
    </ElRadioGroup>
    <ElButton type="danger" :loading="busy" @click="emit('revoke', reason)">Revoke</ElButton>
  </ElDialog>
</template>

<style scoped>
.reasons {
  display: grid;
  margin-bottom: calc(var(--step) * 2);
}
</style>

<script setup lang="ts">
import { ElButton, ElDialog } from "element-plus";
import { computed } from "vue";

import { api, type AccessKey } from "@/api/client";
import { useAttempt } from "@/composables/useAttempt";

// Asks once more before a key opens nothing any more.
const key = defineModel<AccessKey | undefined>({ required: true });
const emit = defineEmits<{ revoked: [] }>();
const { busy, errors, attempt } = useAttempt("key");
const open = computed({
  get: () => Boolean(key.value),
  set: (open) => !open && (key.value = undefined),
});

const revoke = () =>
  attempt(async () => {
    if (!key.value) return;
    await api.revokeKey(key.value.id);
    key.value = undefined;
    emit("revoked");
  });
</script>

<template>
  <ElDialog v-model="open" :title="`Revoke the key ${key?.name}`" width="480" append-to-body>
    <p>It opens nothing from now on, and whatever it has open is closed: sessions and streams.</p>
    <p v-if="errors.key" role="alert" class="error">{{ errors.key }}</p>
    <ElButton type="danger" :loading="busy" @click="revoke">Revoke it</ElButton>
  </ElDialog>
</template>

<style scoped>
.error {
  color: var(--blocked);
}
</style>

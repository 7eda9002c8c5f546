<script setup lang="ts">
import { ElButton, ElDialog } from "element-plus";

import { api, type Claim } from "@/api/client";
import { useAttempt } from "@/composables/useAttempt";

// Asks once more before a domain leaves the platform.
const props = defineProps<{ claim: Claim }>();
const emit = defineEmits<{ released: [] }>();
const open = defineModel<boolean>({ required: true });
const { busy, errors, attempt } = useAttempt("host");

const release = () =>
  attempt(async () => {
    await api.release(props.claim);
    open.value = false;
    emit("released");
  });
</script>

<template>
  <ElDialog v-model="open" :title="`Release ${claim.host}`" width="520" append-to-body>
    <p>
      Visitors no longer reach the site by this name, and its certificate is revoked. The customer
      should take its records back. The name can be taken in anew at any time.
    </p>
    <p v-if="errors.host" role="alert" class="error">{{ errors.host }}</p>
    <ElButton type="danger" :loading="busy" @click="release">Release it</ElButton>
  </ElDialog>
</template>

<style scoped>
.error {
  color: var(--blocked);
}
</style>

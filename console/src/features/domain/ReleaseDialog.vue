<script setup lang="ts">
import { ElButton, ElDialog } from "element-plus";
import { ref } from "vue";

import { api, type Claim, Problem } from "@/api/client";

// Asks once more before a domain leaves the platform.
const props = defineProps<{ claim: Claim }>();
const emit = defineEmits<{ released: [] }>();
const open = defineModel<boolean>({ required: true });
const error = ref("");
const busy = ref(false);

async function release() {
  busy.value = true;
  try {
    await api.release(props.claim);
    open.value = false;
    emit("released");
  } catch (problem) {
    if (!(problem instanceof Problem)) throw problem;
    error.value = problem.message;
  } finally {
    busy.value = false;
  }
}
</script>

<template>
  <ElDialog v-model="open" :title="`Release ${claim.host}`" width="520" append-to-body>
    <p>
      Visitors no longer reach the site by this name, and its certificate is revoked. The customer
      should take its records back. The name can be taken in anew at any time.
    </p>
    <p v-if="error" role="alert" class="error">{{ error }}</p>
    <ElButton type="danger" :loading="busy" @click="release">Release it</ElButton>
  </ElDialog>
</template>

<style scoped>
.error {
  color: var(--blocked);
}
</style>

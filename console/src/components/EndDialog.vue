<script setup lang="ts" generic="T">
import { ElButton, ElDialog } from "element-plus";
import { computed } from "vue";

import { useAttempt } from "@/composables/useAttempt";

// Asks once more before something is ended for good.
const props = defineProps<{ title: string; action: string; end: (it: T) => Promise<void> }>();
const it = defineModel<T | undefined>({ required: true });
const emit = defineEmits<{ ended: [] }>();
const { busy, errors, attempt } = useAttempt("it");
const open = computed({
  get: () => it.value !== undefined,
  set: (open) => !open && (it.value = undefined),
});

const end = () =>
  attempt(async () => {
    if (it.value === undefined) return;
    await props.end(it.value);
    it.value = undefined;
    emit("ended");
  });
</script>

<template>
  <ElDialog v-model="open" :title="title" width="480" append-to-body>
    <p><slot /></p>
    <p v-if="errors.it" role="alert" class="error">{{ errors.it }}</p>
    <ElButton type="danger" :loading="busy" @click="end">{{ action }}</ElButton>
  </ElDialog>
</template>

<style scoped>
.error {
  color: var(--blocked);
}
</style>

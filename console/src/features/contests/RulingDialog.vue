<script setup lang="ts">
import { ElButton, ElDialog, ElForm, ElFormItem, ElInput } from "element-plus";
import { computed, ref, watch } from "vue";

import { api, type Contest } from "@/api/client";
import { useAttempt } from "@/composables/useAttempt";

// Asks why, and says what the ruling will do.
const chosen = defineModel<{ contest: Contest; side: "holder" | "challenger" } | null>({
  required: true,
});
const emit = defineEmits<{ ruled: [] }>();
const because = ref("");
const { busy, errors, attempt } = useAttempt("because");

watch(chosen, () => {
  because.value = "";
  errors.value = {};
});

const title = computed(() => {
  if (!chosen.value) return "";
  const { contest, side } = chosen.value;
  return side === "holder"
    ? `Leave ${contest.shown} with ${contest.holder.account}`
    : `Give ${contest.shown} to ${contest.challenger.account}`;
});

const what = computed(() => {
  if (!chosen.value) return "";
  const { contest, side } = chosen.value;
  const loser = side === "holder" ? contest.challenger.account : contest.holder.account;
  return side === "holder"
    ? `The claim of ${loser} ends at once, and stays ended. Nothing changes for visitors.`
    : `${loser} goes on being served until the certificate of ${contest.challenger.account} is there. Then the name switches in one step, and the claim of ${loser} ends for good.`;
});

const rule = () =>
  attempt(async () => {
    if (!chosen.value) return;
    await api.rule(chosen.value.contest.id, chosen.value.side, because.value);
    chosen.value = null;
    emit("ruled");
  });
</script>

<template>
  <ElDialog
    :model-value="chosen !== null"
    :title="title"
    width="520"
    append-to-body
    @close="chosen = null"
  >
    <p>{{ what }}</p>
    <ElForm label-position="top" @submit.prevent="rule">
      <ElFormItem label="Why" for="because" :error="errors.because">
        <ElInput id="because" v-model="because" type="textarea" :rows="2" />
      </ElFormItem>
      <ElButton type="primary" native-type="submit" :loading="busy">Rule so</ElButton>
    </ElForm>
  </ElDialog>
</template>

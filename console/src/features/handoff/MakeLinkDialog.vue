<script setup lang="ts">
import {
  ElButton,
  ElCheckbox,
  ElDialog,
  ElForm,
  ElFormItem,
  ElInput,
  ElInputNumber,
  ElOption,
  ElSelect,
} from "element-plus";
import { reactive, ref, watch } from "vue";

import { api, type Claim, type MadeHandoff, type NewHandoff } from "@/api/client";
import CopyField from "@/components/CopyField.vue";
import { useAttempt } from "@/composables/useAttempt";
import { LANGUAGES } from "@/lib/languages";

// A new link, which is shown this once.
const props = defineProps<{ claim: Claim }>();
const open = defineModel<boolean>({ required: true });
const emit = defineEmits<{ made: [] }>();
const EMPTY = { language: undefined, days: 30, whole_zone: false, mail_to: "" };
const form = reactive<NewHandoff>({ ...EMPTY });
const made = ref<MadeHandoff>();
const { busy, errors, attempt } = useAttempt("days");

watch(open, () => {
  made.value = undefined;
  Object.assign(form, EMPTY);
});

const make = () =>
  attempt(async () => {
    made.value = await api.makeLink(props.claim, { ...form, mail_to: form.mail_to || undefined });
    emit("made");
  });
</script>

<template>
  <ElDialog v-model="open" title="Make a link for the customer" width="520" append-to-body>
    <div v-if="made" class="made">
      <p v-if="made.mailed_to">
        It was sent to <span class="record">{{ made.mailed_to }}</span>.
      </p>
      <p v-else>Send it to the customer now: it is not shown again.</p>
      <CopyField :value="made.link" what="link" />
      <p><ElButton @click="open = false">Done</ElButton></p>
    </div>
    <ElForm v-else label-position="top" @submit.prevent="make">
      <ElFormItem label="Language at first" for="link-language" :error="errors.language">
        <ElSelect id="link-language" v-model="form.language" clearable placeholder="as they ask">
          <ElOption v-for="(words, tag) in LANGUAGES" :key="tag" :value="tag" :label="words" />
        </ElSelect>
      </ElFormItem>
      <ElFormItem label="Good for days" for="link-days" :error="errors.days">
        <ElInputNumber id="link-days" v-model="form.days" :min="1" :max="365" />
      </ElFormItem>
      <ElFormItem :error="errors.whole_zone">
        <ElCheckbox v-model="form.whole_zone">
          Show every domain of the account in the same zone
        </ElCheckbox>
      </ElFormItem>
      <ElFormItem label="Sent by mail to" for="link-mail" :error="errors.mail_to">
        <ElInput id="link-mail" v-model="form.mail_to" placeholder="nobody: it is shown here" />
      </ElFormItem>
      <ElButton type="primary" native-type="submit" :loading="busy">Make it</ElButton>
    </ElForm>
  </ElDialog>
</template>

<style scoped>
.made :deep(.record) {
  overflow-wrap: anywhere;
}
</style>

<script setup lang="ts">
import {
  ElButton,
  ElCheckbox,
  ElDialog,
  ElForm,
  ElFormItem,
  ElInput,
  ElInputNumber,
} from "element-plus";
import { reactive, watch } from "vue";

import { api, type Account } from "@/api/client";
import { useAttempt } from "@/composables/useAttempt";

const props = defineProps<{ account: Account }>();
const emit = defineEmits<{ changed: [] }>();
const open = defineModel<boolean>({ required: true });
const form = reactive({
  title: "",
  contact: "",
  language: "",
  notes: "",
  limited: false,
  granted: 0,
});
const { busy, errors, attempt } = useAttempt("title");

watch(open, () => {
  const { title, contact, language, notes, allowance } = props.account;
  const { granted, used } = allowance;
  const limited = granted != null;
  Object.assign(form, {
    title,
    contact: contact ?? "",
    language,
    notes,
    limited,
    granted: granted ?? used,
  });
  errors.value = {};
});

const change = () =>
  attempt(async () => {
    const { title, contact, language, notes, limited, granted } = form;
    const allowance = limited ? { domains: granted } : ("unlimited" as const);
    await api.changeAccount(props.account.name, { title, contact, language, notes, allowance });
    open.value = false;
    emit("changed");
  });
</script>

<template>
  <ElDialog v-model="open" :title="`Change ${account.name}`" width="520" append-to-body>
    <ElForm label-position="top" @submit.prevent="change">
      <ElFormItem label="Name for people" for="title" :error="errors.title">
        <ElInput id="title" v-model="form.title" />
      </ElFormItem>
      <ElFormItem label="Contact" for="contact" :error="errors.contact">
        <ElInput id="contact" v-model="form.contact" placeholder="office@onswick.example" />
      </ElFormItem>
      <ElFormItem label="Language" for="language" :error="errors.language">
        <ElInput id="language" v-model="form.language" placeholder="en" />
      </ElFormItem>
      <ElFormItem :error="errors.allowance">
        <ElCheckbox v-model="form.limited">The plan grants a number of domains</ElCheckbox>
        <ElInputNumber
          v-if="form.limited"
          v-model="form.granted"
          :min="0"
          aria-label="Domains granted"
        />
      </ElFormItem>
      <ElFormItem label="Notes" for="notes" :error="errors.notes">
        <ElInput id="notes" v-model="form.notes" type="textarea" :rows="3" />
      </ElFormItem>
      <ElButton type="primary" native-type="submit" :loading="busy">Keep it</ElButton>
    </ElForm>
  </ElDialog>
</template>

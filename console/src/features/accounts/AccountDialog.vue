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
import { reactive, ref, watch } from "vue";

import { api, Problem, type Account } from "@/api/client";

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
const errors = ref<Record<string, string>>({});
const busy = ref(false);

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

async function change() {
  busy.value = true;
  const { title, contact, language, notes, limited, granted } = form;
  const allowance = limited ? { domains: granted } : ("unlimited" as const);
  try {
    await api.changeAccount(props.account.name, { title, contact, language, notes, allowance });
    open.value = false;
    emit("changed");
  } catch (problem) {
    if (!(problem instanceof Problem)) throw problem;
    errors.value = Object.keys(problem.fields).length ? problem.fields : { title: problem.message };
  } finally {
    busy.value = false;
  }
}
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

<script setup lang="ts">
import { ElButton, ElDialog, ElForm, ElFormItem, ElInput } from "element-plus";
import { reactive } from "vue";
import { useRouter } from "vue-router";

import { api } from "@/api/client";
import { useAttempt } from "@/composables/useAttempt";

const open = defineModel<boolean>({ required: true });
const router = useRouter();
const form = reactive({ name: "", title: "" });
const { busy, errors, attempt } = useAttempt("name");

const add = () =>
  attempt(async () => {
    const { name } = await api.addAccount(form.name, form.title);
    open.value = false;
    await router.push({ name: "account", params: { name } });
  });
</script>

<template>
  <ElDialog v-model="open" title="Add an account" width="480" append-to-body>
    <ElForm label-position="top" @submit.prevent="add">
      <ElFormItem label="Short name" for="account-name" :error="errors.name">
        <ElInput id="account-name" v-model="form.name" placeholder="onswick" />
      </ElFormItem>
      <ElFormItem label="Name for people" for="account-title" :error="errors.title">
        <ElInput id="account-title" v-model="form.title" placeholder="Onswick Ferries" />
      </ElFormItem>
      <ElButton type="primary" native-type="submit" :loading="busy">Add it</ElButton>
    </ElForm>
  </ElDialog>
</template>

<script setup lang="ts">
import { ElButton, ElDialog, ElForm, ElFormItem, ElInput, ElOption, ElSelect } from "element-plus";
import { reactive, ref, watch } from "vue";

import { api, type Ingress } from "@/api/client";
import { useAttempt } from "@/composables/useAttempt";

const props = defineProps<{ account: string }>();
const emit = defineEmits<{ added: [] }>();
const open = defineModel<boolean>({ required: true });
const ingresses = ref<Ingress[]>([]);
const form = reactive({ name: "", ingress: "" });
const { busy, errors, attempt } = useAttempt("name");

watch(open, async () => {
  ingresses.value = await api.ingresses();
  form.ingress ||= ingresses.value[0]?.name ?? "";
});

const add = () =>
  attempt(async () => {
    await api.addSite(form.name, props.account, form.ingress);
    open.value = false;
    form.name = "";
    emit("added");
  });
</script>

<template>
  <ElDialog v-model="open" :title="`Add a site to ${account}`" width="480" append-to-body>
    <ElForm label-position="top" @submit.prevent="add">
      <ElFormItem
        label="Name, the first part of its default host"
        for="new-site"
        :error="errors.name"
      >
        <ElInput id="new-site" v-model="form.name" placeholder="onswick-night" />
      </ElFormItem>
      <ElFormItem label="Ingress" for="new-ingress" :error="errors.ingress">
        <ElSelect id="new-ingress" v-model="form.ingress">
          <ElOption v-for="one in ingresses" :key="one.name" :label="one.name" :value="one.name" />
        </ElSelect>
      </ElFormItem>
      <ElButton type="primary" native-type="submit" :loading="busy">Add it</ElButton>
    </ElForm>
  </ElDialog>
</template>

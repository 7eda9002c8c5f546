<script setup lang="ts">
import { ElButton, ElDialog, ElForm, ElFormItem, ElInput } from "element-plus";
import { ref, watch } from "vue";

import { api, type Site } from "@/api/client";
import { useAttempt } from "@/composables/useAttempt";

// Another name for a site; its former default host leads to the new one.
const site = defineModel<Site | null>({ required: true });
const emit = defineEmits<{ renamed: [] }>();
const typed = ref("");
const { busy, errors, attempt } = useAttempt("name");

watch(site, (chosen) => {
  typed.value = chosen?.name ?? "";
  errors.value = {};
});

const rename = () =>
  attempt(async () => {
    if (!site.value) return;
    await api.changeSite(site.value.name, { name: typed.value });
    site.value = null;
    emit("renamed");
  });
</script>

<template>
  <ElDialog
    :model-value="site !== null"
    :title="`Rename ${site?.name ?? ''}`"
    width="480"
    append-to-body
    @close="site = null"
  >
    <ElForm label-position="top" @submit.prevent="rename">
      <ElFormItem label="Name" for="site-name" :error="errors.name">
        <ElInput id="site-name" v-model="typed" />
        <span class="soft">
          {{ site?.default_host }} goes on leading to the site, and no customer has anything to
          publish anew.
        </span>
      </ElFormItem>
      <ElButton type="primary" native-type="submit" :loading="busy">Rename it</ElButton>
    </ElForm>
  </ElDialog>
</template>

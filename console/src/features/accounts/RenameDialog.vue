<script setup lang="ts">
import { ElButton, ElDialog, ElForm, ElFormItem, ElInput } from "element-plus";
import { ref, watch } from "vue";

import { api, Problem, type Site } from "@/api/client";

// Another name for a site; its former default host leads to the new one.
const site = defineModel<Site | null>({ required: true });
const emit = defineEmits<{ renamed: [] }>();
const typed = ref("");
const error = ref("");
const busy = ref(false);

watch(site, (chosen) => {
  typed.value = chosen?.name ?? "";
  error.value = "";
});

async function rename() {
  if (!site.value) return;
  busy.value = true;
  try {
    await api.changeSite(site.value.name, { name: typed.value });
    site.value = null;
    emit("renamed");
  } catch (problem) {
    if (!(problem instanceof Problem)) throw problem;
    error.value = problem.message;
  } finally {
    busy.value = false;
  }
}
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
      <ElFormItem label="Name" for="site-name" :error="error">
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

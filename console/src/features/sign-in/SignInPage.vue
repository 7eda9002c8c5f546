<script setup lang="ts">
import { ElButton, ElForm, ElFormItem, ElInput } from "element-plus";
import { ref } from "vue";
import { useRoute, useRouter } from "vue-router";

import { Problem } from "@/api/client";
import { useSession } from "@/stores/session";

const session = useSession();
const route = useRoute();
const router = useRouter();
const key = ref("");
const error = ref("");
const busy = ref(false);

async function submit() {
  busy.value = true;
  error.value = "";
  try {
    await session.signIn(key.value);
    await router.push(String(route.query.next ?? "/"));
  } catch (problem) {
    if (!(problem instanceof Problem)) throw problem;
    error.value = problem.fields.key ?? problem.message;
  } finally {
    busy.value = false;
  }
}
</script>

<template>
  <ElForm class="sign-in" label-position="top" @submit.prevent="submit">
    <h1>Nomenta</h1>
    <p class="soft">From a customer’s domain to a served certificate.</p>
    <ElFormItem label="Access key" for="key" :error="error">
      <ElInput id="key" v-model="key" type="password" autocomplete="off" autofocus />
    </ElFormItem>
    <ElButton type="primary" native-type="submit" :loading="busy">Sign in</ElButton>
  </ElForm>
</template>

<style scoped>
.sign-in {
  max-width: 380px;
  margin: 16vh auto 0;
  padding: calc(var(--step) * 3);
}
</style>

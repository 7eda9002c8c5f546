<script setup lang="ts">
import { ElButton, ElDialog, ElForm, ElFormItem, ElInput } from "element-plus";
import { reactive, ref } from "vue";

import { api, type Claim, Problem } from "@/api/client";

// Takes a certificate that the customer brings. What is wrong is said at its
// field, and nothing that was pasted is lost.
const props = defineProps<{ claim: Claim }>();
const emit = defineEmits<{ brought: [] }>();
const open = defineModel<boolean>({ required: true });
const form = reactive({ chain: "", key: "" });
const errors = ref<Record<string, string>>({});
const busy = ref(false);

async function submit() {
  busy.value = true;
  try {
    await api.bring(props.claim, form.chain, form.key);
    Object.assign(form, { chain: "", key: "" });
    errors.value = {};
    open.value = false;
    emit("brought");
  } catch (problem) {
    if (!(problem instanceof Problem)) throw problem;
    const fields = problem.fields;
    errors.value = Object.keys(fields).length ? fields : { chain_pem: problem.message };
  } finally {
    busy.value = false;
  }
}
</script>

<template>
  <ElDialog v-model="open" :title="`A certificate for ${claim.host}`" width="640" append-to-body>
    <ElForm label-position="top" @submit.prevent="submit">
      <ElFormItem label="Chain" for="chain" :error="errors.chain_pem">
        <ElInput id="chain" v-model="form.chain" type="textarea" :rows="6" class="record" />
        <span class="soft">PEM text, the domain's own certificate first, then its issuers.</span>
      </ElFormItem>
      <ElFormItem label="Private key" for="key" :error="errors.key_pem">
        <ElInput id="key" v-model="form.key" type="textarea" :rows="6" class="record" />
        <span class="soft">PEM text (PKCS #8). It is sealed before it is kept.</span>
      </ElFormItem>
      <ElButton type="primary" native-type="submit" :loading="busy">Serve it</ElButton>
    </ElForm>
  </ElDialog>
</template>

<script setup lang="ts">
import { ElButton, ElCheckbox, ElDialog, ElForm, ElFormItem, ElInput } from "element-plus";
import { reactive, ref } from "vue";
import { useRouter } from "vue-router";

import { api } from "@/api/client";
import SitePicker from "@/components/SitePicker.vue";
import { useAttempt } from "@/composables/useAttempt";

const open = defineModel<boolean>({ required: true });
const router = useRouter();
const account = ref<string>();
const form = reactive({ host: "", site: "", pair: false, by_zone: false });
const { busy, errors, attempt } = useAttempt("host");

async function submit() {
  if (!form.site) {
    errors.value = { site: "Choose the site that the domain will show." };
    return;
  }
  await attempt(async () => {
    const sheet = await api.enrol({ ...form });
    open.value = false;
    const query = { account: account.value };
    await router.push({ name: "domain", params: { host: sheet.routed }, query });
  });
}
</script>

<template>
  <ElDialog v-model="open" title="Enrol a domain" width="480" append-to-body>
    <ElForm label-position="top" @submit.prevent="submit">
      <ElFormItem label="Domain" for="host" :error="errors.host">
        <ElInput id="host" v-model="form.host" placeholder="timetable.onswick.example" autofocus />
        <span class="soft">Paste what the customer sent: a name or a whole address.</span>
      </ElFormItem>
      <ElFormItem label="Site" for="site" :error="errors.site">
        <SitePicker id="site" v-model="form.site" @found="(site) => (account = site?.account)" />
      </ElFormItem>
      <ElFormItem :error="errors.pair">
        <ElCheckbox v-model="form.pair">
          With and without www; this one is the primary, and the other leads to it
        </ElCheckbox>
      </ElFormItem>
      <ElFormItem :error="errors.by_zone">
        <ElCheckbox v-model="form.by_zone">
          Proved once at the zone’s apex, for every name there that is taken in so
        </ElCheckbox>
      </ElFormItem>
      <ElButton type="primary" native-type="submit" :loading="busy">Enrol</ElButton>
    </ElForm>
  </ElDialog>
</template>

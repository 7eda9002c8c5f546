<script setup lang="ts">
import {
  ElButton,
  ElCheckbox,
  ElDialog,
  ElForm,
  ElFormItem,
  ElInput,
  ElOption,
  ElSelect,
} from "element-plus";
import { onMounted, reactive, ref } from "vue";
import { useRouter } from "vue-router";

import { api, type Site } from "@/api/client";
import { useAttempt } from "@/composables/useAttempt";

const open = defineModel<boolean>({ required: true });
const router = useRouter();
const sites = ref<Site[]>([]);
const form = reactive({ host: "", site: "", pair: false, by_zone: false });
const { busy, errors, attempt } = useAttempt("host");

onMounted(async () => (sites.value = await api.sites()));

async function submit() {
  if (!form.site) {
    errors.value = { site: "Choose the site that the domain will show." };
    return;
  }
  await attempt(async () => {
    const sheet = await api.enrol({ ...form });
    open.value = false;
    const account = sites.value.find((site) => site.name === form.site)?.account;
    await router.push({ name: "domain", params: { host: sheet.routed }, query: { account } });
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
        <ElSelect id="site" v-model="form.site" filterable placeholder="Choose a site">
          <ElOption
            v-for="site in sites"
            :key="site.name"
            :label="`${site.name} (${site.account})`"
            :value="site.name"
          />
        </ElSelect>
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

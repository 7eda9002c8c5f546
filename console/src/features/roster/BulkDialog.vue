<script setup lang="ts">
import { ElButton, ElDialog, ElForm, ElFormItem, ElOption, ElSelect } from "element-plus";
import { computed, reactive, ref, watch } from "vue";
import { useRouter } from "vue-router";

import { api, type Act, type JobPreview, type NewJob } from "@/api/client";
import SitePicker from "@/components/SitePicker.vue";
import { useAttempt } from "@/composables/useAttempt";
import { ACTS } from "@/lib/act";

import type { Filters } from "./useRoster";

// What is to be done to all domains that the filters leave: said first, and then done.
const props = defineProps<{ filters: Filters }>();
const open = defineModel<boolean>({ required: true });
const router = useRouter();
const form = reactive<{ act: Act["do"]; site: string }>({ act: "look", site: "" });
const preview = ref<JobPreview>();
const { busy, errors, attempt } = useAttempt("act");
let turn = 0;

const job = computed<NewJob>(() => {
  const given = props.filters;
  const number = (text?: string) => (text ? Number(text) : undefined);
  const act: Act = form.act === "move" ? { do: "move", site: form.site } : { do: form.act };
  return {
    act,
    domains: {
      stage: given.stage as NewJob["domains"]["stage"],
      account: given.account,
      site: given.site,
      ingress: given.ingress,
      operator: given.operator,
      finding: given.finding as NewJob["domains"]["finding"],
      text: given.text,
      older_than: number(given.older_than),
      younger_than: number(given.younger_than),
    },
  };
});

async function look() {
  const mine = ++turn;
  preview.value = undefined;
  if (form.act === "move" && !form.site) return;
  await attempt(async () => {
    const answer = await api.preview(job.value);
    if (mine === turn) preview.value = answer;
  });
}
watch([open, () => form.act, () => form.site], () => open.value && void look());

const begin = () =>
  attempt(async () => {
    const { id } = await api.beginJob(job.value);
    open.value = false;
    await router.push({ name: "job", params: { id } });
  });
</script>

<template>
  <ElDialog v-model="open" title="Do the same to all of these" width="560" append-to-body>
    <ElForm label-position="top" @submit.prevent="begin">
      <ElFormItem label="What" for="bulk-act" :error="errors.act">
        <ElSelect id="bulk-act" v-model="form.act">
          <ElOption v-for="(act, key) in ACTS" :key="key" :value="key" :label="act.words" />
        </ElSelect>
        <span class="soft">{{ ACTS[form.act].means }}</span>
      </ElFormItem>
      <ElFormItem v-if="form.act === 'move'" label="Site" for="bulk-site" :error="errors.site">
        <SitePicker id="bulk-site" v-model="form.site" :account="filters.account" />
      </ElFormItem>
      <div class="preview" aria-live="polite">
        <template v-if="preview">
          <p>
            <strong>{{ preview.changes }}{{ preview.is_more ? " or more" : "" }}</strong> of
            {{ preview.total }} domains would be changed.
          </p>
          <p v-if="preview.nothing">{{ preview.nothing }} are so already.</p>
          <p v-if="preview.refused" class="refused">
            {{ preview.refused }} cannot be, as they stand.
          </p>
          <p class="soft">
            {{ preview.stages.map((one) => `${one.count} at ${one.stage}`).join(", ") }}
          </p>
          <p v-if="preview.first.length" class="record first">
            {{ preview.first.slice(0, 5).join(", ") }}{{ preview.total > 5 ? " …" : "" }}
          </p>
        </template>
        <p v-else class="soft">
          {{ form.act === "move" && !form.site ? "Choose the site first." : "Counting …" }}
        </p>
      </div>
      <ElButton
        :type="form.act === 'release' ? 'danger' : 'primary'"
        native-type="submit"
        :loading="busy"
        :disabled="!preview?.changes"
      >
        {{ ACTS[form.act].words }}{{ preview ? `: ${preview.changes}` : "" }}
      </ElButton>
    </ElForm>
  </ElDialog>
</template>

<style scoped>
.preview {
  min-height: 8em;
  margin-bottom: calc(var(--step) * 2);
  padding: var(--step) 0;
  border-top: 1px solid var(--hairline);
  border-bottom: 1px solid var(--hairline);
}

.preview p {
  margin: 0 0 4px;
}

.refused {
  color: var(--waiting);
}
</style>

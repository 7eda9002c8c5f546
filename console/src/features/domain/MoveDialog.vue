<script setup lang="ts">
import {
  ElButton,
  ElCheckbox,
  ElDatePicker,
  ElDialog,
  ElForm,
  ElFormItem,
  ElInput,
} from "element-plus";
import { reactive, ref, watch } from "vue";

import { api, type Claim, type DomainDetail, type MoveDomain } from "@/api/client";
import SitePicker from "@/components/SitePicker.vue";
import { useAttempt } from "@/composables/useAttempt";

// What a domain shows: another site, the primary of its pair, paths, and from when.
const props = defineProps<{ claim: Claim; detail: DomainDetail }>();
const emit = defineEmits<{ moved: [] }>();
const open = defineModel<boolean>({ required: true });
const form = reactive({
  site: "",
  primary: false,
  entry: "",
  missing: "",
  at: null as Date | null,
});
const { busy, errors, attempt } = useAttempt("site");
const said = ref("");

watch(open, (opened) => {
  if (!opened) return;
  const { site, shows } = props.detail;
  Object.assign(form, {
    site,
    primary: props.detail.pair?.is_primary ?? false,
    entry: shows.entry_path ?? "",
    missing: shows.error_path ?? "",
    at: shows.switch_at ? new Date(shows.switch_at) : null,
  });
  errors.value = {};
  said.value = "";
});

/** What differs from how it stands now. */
function change(): MoveDomain {
  const { site, shows, pair } = props.detail;
  const wanted: MoveDomain = { primary: form.primary && pair?.is_primary === false };
  if (form.site !== site) wanted.site = form.site;
  if (form.entry !== (shows.entry_path ?? "")) wanted.entry_path = form.entry;
  if (form.missing !== (shows.error_path ?? "")) wanted.error_path = form.missing;
  if (form.at) wanted.at = form.at.toISOString();
  else if (shows.switch_at) wanted.at = new Date().toISOString();
  return wanted;
}

const move = () =>
  attempt(async () => {
    const moved = await api.move(props.claim, change());
    emit("moved");
    open.value = moved.needs_records;
    said.value = "The other site lies behind another ingress: hand the customer the new sheet.";
  });
</script>

<template>
  <ElDialog v-model="open" :title="`What ${claim.host} shows`" width="520" append-to-body>
    <ElForm label-position="top" @submit.prevent="move">
      <ElFormItem label="Site" for="move-site" :error="errors.site">
        <SitePicker id="move-site" v-model="form.site" :account="detail.account" />
        <span class="soft">Behind the same ingress the customer has nothing to publish anew.</span>
      </ElFormItem>
      <ElFormItem v-if="detail.pair" :error="errors.primary">
        <ElCheckbox v-model="form.primary" :disabled="detail.pair.is_primary">
          The primary, to which {{ detail.pair.other }} leads
        </ElCheckbox>
      </ElFormItem>
      <ElFormItem label="Visitors enter at" for="entry" :error="errors.entry_path">
        <ElInput id="entry" v-model="form.entry" placeholder="where the site says" />
      </ElFormItem>
      <ElFormItem label="When something is missing" for="missing" :error="errors.error_path">
        <ElInput id="missing" v-model="form.missing" placeholder="what the site says" />
      </ElFormItem>
      <ElFormItem label="From" for="move-at" :error="errors.at">
        <ElDatePicker id="move-at" v-model="form.at" type="datetime" placeholder="now" />
        <span class="soft">Before its first hour the domain leads to the default host.</span>
      </ElFormItem>
      <p v-if="said" role="status">{{ said }}</p>
      <ElButton type="primary" native-type="submit" :loading="busy">Change it</ElButton>
    </ElForm>
  </ElDialog>
</template>

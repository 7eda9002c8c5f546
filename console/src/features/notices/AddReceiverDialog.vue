<script setup lang="ts">
import { ElButton, ElDialog, ElForm, ElFormItem, ElInput, ElOption, ElSelect } from "element-plus";
import { reactive, watch } from "vue";

import { api, type MadeHook, type NoticeKind } from "@/api/client";
import { useAttempt } from "@/composables/useAttempt";

import { KINDS } from "./kinds";

// Somebody else to be told.
const props = defineProps<{ way: "hooks" | "recipients" }>();
const open = defineModel<boolean>({ required: true });
const emit = defineEmits<{ made: [hook?: MadeHook] }>();
const EMPTY = { target: "", account: "", quiet: "" };
const form = reactive({ ...EMPTY, kinds: [] as NoticeKind[] });
const isHook = props.way === "hooks";
const field = isHook ? "url" : "address";
const { busy, errors, attempt } = useAttempt(field);

watch(open, () => Object.assign(form, EMPTY, { kinds: [] }));

const add = () =>
  attempt(async () => {
    const { target, kinds } = form;
    const account = form.account.trim() || undefined;
    const quiet = form.quiet.trim() || undefined;
    const made = isHook
      ? await api.addHook({ url: target, account, kinds })
      : await api.addRecipient({ address: target, account, kinds, quiet });
    open.value = false;
    emit("made", isHook ? (made as MadeHook) : undefined);
  });
</script>

<template>
  <ElDialog
    v-model="open"
    :title="isHook ? 'Have a system called' : 'Write to somebody'"
    width="520"
    append-to-body
  >
    <ElForm label-position="top" @submit.prevent="add">
      <ElFormItem
        :label="isHook ? 'Where it is called' : 'Their mail address'"
        for="receiver-target"
        :error="errors[field]"
      >
        <ElInput
          id="receiver-target"
          v-model="form.target"
          :placeholder="isHook ? 'https://ops.quaymark.example/domains' : 'ferry@onswick.example'"
        />
      </ElFormItem>
      <ElFormItem label="About this account alone" for="receiver-account" :error="errors.account">
        <ElInput id="receiver-account" v-model="form.account" placeholder="every account" />
      </ElFormItem>
      <ElFormItem label="When" for="receiver-kinds" :error="errors.kinds">
        <ElSelect id="receiver-kinds" v-model="form.kinds" multiple placeholder="all of it">
          <ElOption v-for="(words, kind) in KINDS" :key="kind" :value="kind" :label="words" />
        </ElSelect>
      </ElFormItem>
      <ElFormItem
        v-if="!isHook"
        label="Not in these hours"
        for="receiver-quiet"
        :error="errors.quiet"
      >
        <ElInput id="receiver-quiet" v-model="form.quiet" placeholder="22:00-07:00 UTC" />
      </ElFormItem>
      <ElButton type="primary" native-type="submit" :loading="busy">
        {{ isHook ? "Have it called" : "Write to them" }}
      </ElButton>
    </ElForm>
  </ElDialog>
</template>

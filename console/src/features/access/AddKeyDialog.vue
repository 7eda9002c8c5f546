<script setup lang="ts">
import {
  ElButton,
  ElDatePicker,
  ElDialog,
  ElForm,
  ElFormItem,
  ElInput,
  ElOption,
  ElSelect,
} from "element-plus";
import { reactive, ref, watch } from "vue";

import { api, listing, type Account, type MadeKey, type NewKey } from "@/api/client";
import CopyField from "@/components/CopyField.vue";
import { useAttempt } from "@/composables/useAttempt";
import { useSought } from "@/composables/useSought";

// A new key, whose secret is shown this once.
const open = defineModel<boolean>({ required: true });
const emit = defineEmits<{ made: [] }>();
const EMPTY = { name: "", role: "viewer", accounts: [] as string[], expires: undefined };
const form = reactive<{
  name: string;
  role: NewKey["role"];
  accounts: string[];
  expires?: Date;
}>({ ...EMPTY, role: "viewer" });
const made = ref<MadeKey>();
const { busy, errors, attempt } = useAttempt("name");
const ROLES = {
  viewer: "viewer: sees all, changes nothing",
  operator: "operator: takes domains in and looks after them",
  admin: "admin: accounts, ingresses and keys too",
  edge: "edge: routes and certificates, for edge servers alone",
};

const { found, searching, none, search } = useSought<Account>(
  "account",
  (text) => listing("accounts", { text, limit: "30" }),
  api.accounts,
);
watch(open, () => {
  made.value = undefined;
  Object.assign(form, EMPTY, { accounts: [] });
});

const add = () =>
  attempt(async () => {
    const { name, role, accounts, expires } = form;
    made.value = await api.addKey({
      name,
      role,
      accounts,
      expires_at: expires?.toISOString(),
    });
    emit("made");
  });
</script>

<template>
  <ElDialog v-model="open" title="Make a key" width="520" append-to-body>
    <div v-if="made" class="made">
      <p>Copy it now: it is not shown again.</p>
      <CopyField :value="made.secret" what="key" />
      <p><ElButton @click="open = false">Done</ElButton></p>
    </div>
    <ElForm v-else label-position="top" @submit.prevent="add">
      <ElFormItem label="What it is for" for="key-name" :error="errors.name">
        <ElInput id="key-name" v-model="form.name" placeholder="night shift" />
      </ElFormItem>
      <ElFormItem label="Role" for="key-role" :error="errors.role">
        <ElSelect id="key-role" v-model="form.role">
          <ElOption v-for="(words, role) in ROLES" :key="role" :value="role" :label="words" />
        </ElSelect>
      </ElFormItem>
      <ElFormItem
        label="Accounts that it opens alone"
        for="key-accounts"
        :error="errors.accounts ?? errors.account"
      >
        <ElSelect
          id="key-accounts"
          v-model="form.accounts"
          multiple
          filterable
          remote
          :remote-method="search"
          :loading="searching"
          placeholder="every account"
          :no-data-text="none"
          @focus="search()"
        >
          <ElOption
            v-for="account in found"
            :key="account.name"
            :value="account.name"
            :label="`${account.title} (${account.name})`"
          />
        </ElSelect>
      </ElFormItem>
      <ElFormItem label="Until" for="key-expires" :error="errors.expires_at">
        <ElDatePicker
          id="key-expires"
          v-model="form.expires"
          type="datetime"
          placeholder="it is revoked"
          format="YYYY-MM-DD HH:mm"
        />
      </ElFormItem>
      <ElButton type="primary" native-type="submit" :loading="busy">Make it</ElButton>
    </ElForm>
  </ElDialog>
</template>

<style scoped>
.made :deep(.record) {
  font-size: 16px;
}
</style>

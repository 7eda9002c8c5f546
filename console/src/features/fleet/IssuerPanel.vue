<script setup lang="ts">
import { ElButton } from "element-plus";
import { onMounted, ref } from "vue";

import { api, type IssuerAccount } from "@/api/client";
import CopyField from "@/components/CopyField.vue";
import EndDialog from "@/components/EndDialog.vue";
import { useAttempt } from "@/composables/useAttempt";
import { useNow } from "@/composables/useNow";
import { exact, span } from "@/lib/time";
import { useSession } from "@/stores/session";

// The account that certificates are ordered with, and its key.
const session = useSession();
const account = ref<IssuerAccount>();
const changing = ref<IssuerAccount>();
const now = useNow();
const { errors, attempt } = useAttempt("account");

const read = () =>
  attempt(async () => {
    account.value = await api.issuerAccount();
  });
async function changeKey() {
  account.value = await api.changeIssuerKey();
}
const caa = (account: IssuerAccount, identity: string) =>
  `0 issue "${identity}; accounturi=${account.uri}"`;

onMounted(read);
</script>

<template>
  <section class="issuer">
    <h2>The account at the certification authority</h2>
    <p v-if="errors.account" class="soft">{{ errors.account }}</p>
    <template v-if="account">
      <dl>
        <dt>Account</dt>
        <dd class="record">{{ account.uri }}</dd>
        <dt>Directory</dt>
        <dd class="record">{{ account.directory }}</dd>
        <dt>Key</dt>
        <dd v-if="account.key_since" :title="exact(account.key_since)">
          in use for {{ span(now - Date.parse(account.key_since)) }}
        </dd>
        <template v-for="identity in account.identities" :key="identity">
          <dt>CAA record that lets nobody else order</dt>
          <dd><CopyField :value="caa(account, identity)" what="CAA record" /></dd>
        </template>
      </dl>
      <p v-if="session.mayAdminister">
        <ElButton @click="changing = account">Change its key</ElButton>
      </p>
    </template>
    <EndDialog
      v-model="changing"
      title="Another key for the account"
      action="Change the key"
      :end="changeKey"
    >
      The key of before opens nothing from then on. Orders under way go on with the new one, in
      every process.
    </EndDialog>
  </section>
</template>

<style scoped>
.issuer {
  margin-top: calc(var(--step) * 4);
}

dl {
  display: grid;
  grid-template-columns: max-content 1fr;
  gap: 4px calc(var(--step) * 2);
}

dt {
  color: var(--ink-soft);
}

dd {
  margin: 0;
  overflow-wrap: anywhere;
}

@media (max-width: 600px) {
  dl {
    grid-template-columns: 1fr;
  }
}
</style>

<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref } from "vue";

import { api, type Account } from "@/api/client";
import { useLive } from "@/composables/useLive";
import { used } from "@/lib/account";
import { useSession } from "@/stores/session";

import AddAccountDialog from "./AddAccountDialog.vue";

const adding = ref(false);
const session = useSession();
const mayAdd = computed(() => session.who?.role === "admin" && !session.who.account);
const accounts = ref<Account[]>([]);
useLive(
  (event) => event.type.startsWith("nomenta.account") || event.type === "nomenta.domain.enrolled",
  async () => {
    accounts.value = await api.accounts();
  },
);
</script>

<template>
  <section class="page">
    <header>
      <h1>Accounts</h1>
      <ElButton v-if="mayAdd" type="primary" @click="adding = true">Add an account</ElButton>
    </header>
    <table v-if="accounts.length">
      <thead>
        <tr>
          <th scope="col">Account</th>
          <th scope="col">Name</th>
          <th scope="col">Domains</th>
          <th scope="col">State</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="account in accounts" :key="account.name" :data-account="account.name">
          <td>
            <RouterLink :to="{ name: 'account', params: { name: account.name } }">{{
              account.name
            }}</RouterLink>
          </td>
          <td>{{ account.title }}</td>
          <td class="number">{{ used(account) }}</td>
          <td :class="{ suspended: account.suspended_at }">
            {{ account.suspended_at ? "suspended" : "in force" }}
          </td>
        </tr>
      </tbody>
    </table>
    <p v-else class="soft">There is no account yet.</p>
    <AddAccountDialog v-model="adding" />
  </section>
</template>

<style scoped>
header {
  display: flex;
  align-items: center;
  justify-content: space-between;
}

.number {
  font-variant-numeric: tabular-nums;
}

.suspended {
  color: var(--blocked);
}
</style>

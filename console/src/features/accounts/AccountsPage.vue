<script setup lang="ts">
import { ref } from "vue";

import { api, type Account } from "@/api/client";
import { useLive } from "@/composables/useLive";
import { used } from "@/lib/account";

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
    <h1>Accounts</h1>
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
  </section>
</template>

<style scoped>
.number {
  font-variant-numeric: tabular-nums;
}

.suspended {
  color: var(--blocked);
}
</style>

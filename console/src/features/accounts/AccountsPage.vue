<script setup lang="ts">
import { ElButton, ElInput } from "element-plus";
import { computed, ref } from "vue";

import { api, listing, type Account } from "@/api/client";
import { usePages } from "@/composables/usePages";
import { used } from "@/lib/account";
import { useSession } from "@/stores/session";

import AddAccountDialog from "./AddAccountDialog.vue";

const adding = ref(false);
const text = ref("");
const session = useSession();
const mayAdd = computed(() => session.mayAdminister);
const { rows, more, loaded, showMore } = usePages<Account>(
  () => listing("accounts", { text: text.value.trim() }),
  api.accounts,
  (event) => event.type.startsWith("nomenta.account") || event.type === "nomenta.domain.enrolled",
);
</script>

<template>
  <section class="page">
    <header>
      <h1>Accounts</h1>
      <ElInput
        v-model="text"
        class="find"
        placeholder="Part of a name"
        aria-label="Part of a name"
        clearable
      />
      <ElButton v-if="mayAdd" type="primary" @click="adding = true">Add an account</ElButton>
    </header>
    <table v-if="rows.length">
      <thead>
        <tr>
          <th scope="col">Account</th>
          <th scope="col">Name</th>
          <th scope="col">Domains</th>
          <th scope="col">State</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="account in rows" :key="account.name" :data-account="account.name">
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
    <p v-else-if="loaded" class="soft">
      <template v-if="more">None so far. Show more to look on.</template>
      <template v-else>
        {{ text ? "No account has that in its name." : "There is no account yet." }}
      </template>
    </p>
    <p v-if="more"><ElButton @click="showMore">Show more</ElButton></p>
    <AddAccountDialog v-model="adding" />
  </section>
</template>

<style scoped>
header {
  display: flex;
  gap: calc(var(--step) * 2);
  align-items: center;
}

h1 {
  margin-right: auto;
}

.find {
  width: 260px;
}

.number {
  font-variant-numeric: tabular-nums;
}

.suspended {
  color: var(--blocked);
}
</style>

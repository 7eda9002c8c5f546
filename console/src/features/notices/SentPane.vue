<script setup lang="ts">
import { ElButton, ElOption, ElSelect } from "element-plus";
import { computed } from "vue";
import { useRoute, useRouter } from "vue-router";

import { api, type Delivery, listing } from "@/api/client";
import { useAttempt } from "@/composables/useAttempt";
import { useNow } from "@/composables/useNow";
import { usePages } from "@/composables/usePages";
import { exact, span, until } from "@/lib/time";
import { useSession } from "@/stores/session";

import { KINDS } from "./kinds";

const mayEdit = useSession().who?.role !== "viewer";
const route = useRoute();
const router = useRouter();
const now = useNow();
const { errors, attempt } = useAttempt("again");
const STATES = { due: "yet to be taken", delivered: "taken", dead: "given up" } as const;

const state = computed({
  get: () => (typeof route.query.state === "string" ? route.query.state : ""),
  set: (state) => void router.replace({ query: { ...route.query, state: state || undefined } }),
});
const { rows, more, loaded, reload, showMore } = usePages<Delivery>(
  () => listing("notices", { state: state.value }),
  api.notices,
  () => true,
);

const again = (one: Delivery) =>
  attempt(async () => {
    await api.redeliver(one.id);
    await reload();
  });
</script>

<template>
  <p>
    <ElSelect
      v-model="state"
      clearable
      placeholder="whatever came of it"
      aria-label="What came of it"
    >
      <ElOption v-for="(words, one) in STATES" :key="one" :value="one" :label="words" />
    </ElSelect>
  </p>
  <p v-if="errors.again" role="alert" class="error">{{ errors.again }}</p>
  <table v-if="rows.length">
    <thead>
      <tr>
        <th scope="col">Happened</th>
        <th scope="col">Domain</th>
        <th scope="col">What</th>
        <th scope="col">To</th>
        <th scope="col">What came of it</th>
        <th scope="col"><span class="hidden">What to do</span></th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="one in rows" :key="one.id" :class="one.state">
        <td :title="exact(one.at)">{{ span(now - Date.parse(one.at)) }} ago</td>
        <td>
          <RouterLink :to="{ name: 'domain', params: { host: one.host } }">{{
            one.host
          }}</RouterLink>
        </td>
        <td>{{ KINDS[one.kind] }}</td>
        <td class="record">{{ one.target }}</td>
        <td>
          <strong>{{ STATES[one.state] }}</strong>
          <span v-if="one.due" class="soft" :title="exact(one.due)">
            {{ one.last_error ? "again" : "" }} {{ until(one.due, now) }}</span
          >
          <div v-if="one.last_error" class="soft">{{ one.last_error }}</div>
        </td>
        <td>
          <ElButton v-if="mayEdit && one.state === 'dead'" link type="primary" @click="again(one)">
            Send again
          </ElButton>
        </td>
      </tr>
    </tbody>
  </table>
  <p v-else-if="loaded" class="soft">Nobody was told anything yet.</p>
  <p v-if="more"><ElButton @click="showMore">Show more</ElButton></p>
</template>

<style scoped>
.el-select {
  width: 240px;
}

.dead strong,
.error {
  color: var(--blocked);
}

.due strong {
  color: var(--waiting);
}

td {
  overflow-wrap: anywhere;
}
</style>

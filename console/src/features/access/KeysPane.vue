<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref } from "vue";

import { api, type AccessKey } from "@/api/client";
import EndDialog from "@/components/EndDialog.vue";
import { useNow } from "@/composables/useNow";
import { usePages } from "@/composables/usePages";
import { exact, span } from "@/lib/time";

import AddKeyDialog from "./AddKeyDialog.vue";

const now = useNow();
const adding = ref(false);
const revoking = ref<AccessKey>();
const { rows, more, loaded, reload, showMore } = usePages<AccessKey>(
  () => "keys",
  api.keys,
  () => false,
);

function state(key: AccessKey): string {
  if (key.revoked_at) return "revoked";
  if (!key.expires_at) return "in force";
  const left = Date.parse(key.expires_at) - now.value;
  return left <= 0 ? "expired" : `for ${span(left)} more`;
}
const isOver = (key: AccessKey) => ["revoked", "expired"].includes(state(key));
</script>

<template>
  <p><ElButton type="primary" @click="adding = true">Make a key</ElButton></p>
  <table v-if="rows.length">
    <thead>
      <tr>
        <th scope="col">For</th>
        <th scope="col">Role</th>
        <th scope="col">Accounts</th>
        <th scope="col">Ends in</th>
        <th scope="col">Last use</th>
        <th scope="col">State</th>
        <th scope="col"><span class="hidden">What to do</span></th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="key in rows" :key="key.id" :data-key="key.name" :class="{ over: isOver(key) }">
        <td>{{ key.name }}</td>
        <td>{{ key.role }}</td>
        <td>{{ key.accounts.join(", ") || "every" }}</td>
        <td class="record">{{ key.hint }}</td>
        <td :title="key.used_at ? exact(key.used_at) : ''">
          {{ key.used_at ? `${span(now - Date.parse(key.used_at))} ago` : "never" }}
        </td>
        <td>{{ state(key) }}</td>
        <td>
          <ElButton v-if="!isOver(key)" link type="danger" @click="revoking = key">Revoke</ElButton>
        </td>
      </tr>
    </tbody>
  </table>
  <p v-else-if="loaded" class="soft">There is no key yet.</p>
  <p v-if="more"><ElButton @click="showMore">Show more</ElButton></p>
  <AddKeyDialog v-model="adding" @made="reload" />
  <EndDialog
    v-model="revoking"
    :title="`Revoke the key ${revoking?.name}`"
    action="Revoke it"
    :end="(key) => api.revokeKey(key.id)"
    @ended="reload"
  >
    It opens nothing from now on, and whatever it has open is closed: sessions and streams.
  </EndDialog>
</template>

<style scoped>
.over {
  color: var(--ink-soft);
}
</style>

<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref } from "vue";

import { api, type Handoff, listing } from "@/api/client";
import EndDialog from "@/components/EndDialog.vue";
import { useNow } from "@/composables/useNow";
import { usePages } from "@/composables/usePages";
import { exact, span } from "@/lib/time";
import { useSession } from "@/stores/session";

import MakeLinkDialog from "./MakeLinkDialog.vue";

// Links by which the customer sees a domain, or those of an account.
const props = defineProps<{ host?: string; account?: string }>();
const session = useSession();
const mayEdit = session.who?.role !== "viewer";
const now = useNow();
const making = ref(false);
const taking = ref<Handoff>();
const { rows, more, loaded, reload, showMore } = usePages<Handoff>(
  () => listing("handoffs", { host: props.host, account: props.account }),
  api.handoffs,
  () => false,
);

const isOver = (link: Handoff) =>
  Boolean(link.revoked_at) || Date.parse(link.expires_at) <= now.value;

function state(link: Handoff): string {
  if (link.revoked_at) return "taken back";
  const left = Date.parse(link.expires_at) - now.value;
  return left <= 0 ? "expired" : `for ${span(left)} more`;
}
</script>

<template>
  <section class="handoff">
    <h2>Links for the customer</h2>
    <p class="soft">
      A page without signing in: what to do, step by step and in their language, and how it goes.
    </p>
    <p v-if="host && mayEdit"><ElButton @click="making = true">Make a link</ElButton></p>
    <table v-if="rows.length" class="links">
      <thead>
        <tr>
          <th scope="col">Shows</th>
          <th scope="col">Language</th>
          <th scope="col">Ends in</th>
          <th scope="col">Opened</th>
          <th scope="col">State</th>
          <th scope="col"><span class="hidden">What to do</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="link in rows" :key="link.id" :class="{ over: isOver(link) }">
          <td class="record">{{ link.zone ? `all in ${link.zone}` : link.host }}</td>
          <td>{{ link.language ?? "as asked" }}</td>
          <td class="record">{{ link.hint }}</td>
          <td :title="link.opened_at ? exact(link.opened_at) : ''">
            {{ link.opened_at ? `${span(now - Date.parse(link.opened_at))} ago` : "never" }}
          </td>
          <td :title="exact(link.expires_at)">{{ state(link) }}</td>
          <td>
            <ElButton v-if="mayEdit && !isOver(link)" link type="danger" @click="taking = link">
              Take back
            </ElButton>
          </td>
        </tr>
      </tbody>
    </table>
    <p v-else-if="loaded" class="soft">There is none yet.</p>
    <p v-if="more"><ElButton @click="showMore">Show more</ElButton></p>
    <MakeLinkDialog v-if="host" v-model="making" :claim="{ host, account }" @made="reload" />
    <EndDialog
      v-model="taking"
      :title="`The link that ends in ${taking?.hint}`"
      action="Take it back"
      :end="(link) => api.takeBackLink(link.id)"
      @ended="reload"
    >
      Whoever has it sees that it has ended, at once. What they have published stays.
    </EndDialog>
  </section>
</template>

<style scoped>
.handoff {
  margin-top: calc(var(--step) * 4);
}

.over {
  color: var(--ink-soft);
}
</style>

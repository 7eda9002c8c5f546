<script setup lang="ts">
import { ElButton } from "element-plus";
import { ref } from "vue";

import { api, type MadeHook, type Receiver } from "@/api/client";
import CopyField from "@/components/CopyField.vue";
import EndDialog from "@/components/EndDialog.vue";
import { usePages } from "@/composables/usePages";
import { exact } from "@/lib/time";
import { useSession } from "@/stores/session";

import AddReceiverDialog from "./AddReceiverDialog.vue";
import { KINDS } from "./kinds";

// Systems that are called, or people who are written to.
const props = defineProps<{ way: "hooks" | "recipients" }>();
const session = useSession();
const mayEdit = session.who?.role === "admin" || props.way === "recipients";
const adding = ref(false);
const ending = ref<Receiver>();
const rotating = ref<Receiver>();
const made = ref<MadeHook>();
const { rows, more, loaded, reload, showMore } = usePages<Receiver>(
  () => props.way,
  api.receivers,
  () => false,
);

const about = (one: Receiver) => one.host ?? one.account ?? "every account";
const kinds = (one: Receiver) => one.kinds.map((kind) => KINDS[kind]).join("; ") || "all";

function state(one: Receiver): string {
  if (one.is_unconfirmed) return "has yet to say yes";
  if (!one.last_error) return "takes them";
  return one.failures ? `no answer ${one.failures} times` : "turned some down";
}

async function rotate(hook: Receiver) {
  made.value = await api.rotateHook(hook.id);
}
</script>

<template>
  <p v-if="way === 'hooks'" class="soft">
    Systems of the platform that are called by HTTPS when something happens (CloudEvents, signed).
  </p>
  <p v-else class="soft">
    People who get a mail when something happens, one for what happens together.
  </p>
  <p v-if="mayEdit">
    <ElButton type="primary" @click="adding = true">
      {{ way === "hooks" ? "Have a system called" : "Write to somebody" }}
    </ElButton>
  </p>
  <div v-if="made" class="made">
    <p>Copy the secret now: it is not shown again.</p>
    <CopyField :value="made.secret" what="secret" />
    <p v-if="made.former_until" class="soft" :title="exact(made.former_until)">
      Calls are signed with the former one too for a day.
    </p>
  </div>
  <table v-if="rows.length">
    <thead>
      <tr>
        <th scope="col">{{ way === "hooks" ? "Called at" : "Written to" }}</th>
        <th scope="col">About</th>
        <th scope="col">When</th>
        <th v-if="way === 'recipients'" scope="col">Not in</th>
        <th scope="col">State</th>
        <th scope="col"><span class="hidden">What to do</span></th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="one in rows" :key="one.id">
        <td class="record">{{ one.target }}</td>
        <td>{{ about(one) }}</td>
        <td>{{ kinds(one) }}</td>
        <td v-if="way === 'recipients'">{{ one.quiet ?? "" }}</td>
        <td>
          {{ state(one) }}
          <div v-if="one.last_error" class="soft">{{ one.last_error }}</div>
        </td>
        <td v-if="mayEdit">
          <ElButton v-if="way === 'hooks'" link @click="rotating = one">New secret</ElButton>
          <ElButton link type="danger" @click="ending = one">Remove</ElButton>
        </td>
      </tr>
    </tbody>
  </table>
  <p v-else-if="loaded" class="soft">There is none yet.</p>
  <p v-if="more"><ElButton @click="showMore">Show more</ElButton></p>
  <AddReceiverDialog v-model="adding" :way="way" @made="(hook) => ((made = hook), reload())" />
  <EndDialog
    v-model="rotating"
    :title="`Another secret for ${rotating?.target}`"
    action="Make one"
    :end="rotate"
    @ended="reload"
  >
    For a day calls are signed with both, so that the system can change over.
  </EndDialog>
  <EndDialog
    v-model="ending"
    :title="`Tell ${ending?.target} nothing more`"
    action="Remove it"
    :end="(one) => api.removeReceiver(way, one.id)"
    @ended="reload"
  >
    What it had yet to be told is forgotten.
  </EndDialog>
</template>

<style scoped>
td {
  overflow-wrap: break-word;
}

.made {
  margin-block: calc(var(--step) * 2);
  padding: calc(var(--step) * 2);
  border: 1px solid var(--act);
}
</style>

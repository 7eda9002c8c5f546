<script setup lang="ts">
import { ElButton, ElForm, ElFormItem, ElInput } from "element-plus";
import { onMounted, reactive, ref } from "vue";

import {
  api,
  type Claim,
  type Publication,
  type PublicationPlan,
  type ZoneKey,
} from "@/api/client";
import EndDialog from "@/components/EndDialog.vue";
import { useAttempt } from "@/composables/useAttempt";
import { exact } from "@/lib/time";
import { useSession } from "@/stores/session";

import WriteLines from "./WriteLines.vue";

// Writes the customer's list to their zone, under a key that they gave.
const props = defineProps<{ claim: Claim }>();
const mayEdit = useSession().who?.role !== "viewer";
const key = ref<ZoneKey>();
const given = reactive({ key: "", server: "" });
const plan = ref<PublicationPlan>();
const sent = ref<Publication[]>([]);
const taking = ref<Publication>();
const giving = useAttempt("key");
const planning = useAttempt("plan");
const STATES = {
  sent: "sent; no answer is known",
  done: "written",
  refused: "refused",
  undone: "taken back",
} as const;

const stands = (one: Publication) => one.state === "done" || one.state === "sent";

async function readKey() {
  key.value = (await api.zoneKey(props.claim)).key ?? undefined;
}

async function reload() {
  plan.value = undefined;
  sent.value = (await api.publications(props.claim)).rows;
}

const give = () =>
  giving.attempt(async () => {
    const server = given.server.trim() || undefined;
    key.value = await api.giveZoneKey(props.claim, { key: given.key, server });
    Object.assign(given, { key: "", server: "" });
    await preview();
  });
const forget = () =>
  giving.attempt(async () => {
    await api.forgetZoneKey(props.claim);
    key.value = plan.value = undefined;
  });
const preview = () =>
  planning.attempt(async () => {
    plan.value = undefined;
    plan.value = await api.publicationPlan(props.claim);
  });
const write = () =>
  planning.attempt(async () => {
    await api.publish(props.claim, plan.value?.plan);
    await reload();
  });

onMounted(() => Promise.all([readKey(), reload()]));
</script>

<template>
  <section class="publish">
    <h2>Write it for the customer</h2>
    <p class="soft">
      With a key of their name server (TSIG) the list is written to their zone in one update: all of
      it, and only while the zone is as it was read. It can be taken back.
    </p>
    <template v-if="key">
      <p>
        The key <span class="record">{{ key.name }}</span> ({{ key.algorithm }}) of
        <span class="record">{{ key.zone }}</span> is kept, sealed<template v-if="key.server"
          >, for the server <span class="record">{{ key.server }}</span></template
        >.
      </p>
      <p v-if="mayEdit">
        <ElButton :loading="planning.busy.value" @click="preview"
          >Show what would be written</ElButton
        >
        <ElButton text :loading="giving.busy.value" @click="forget">Forget the key</ElButton>
      </p>
    </template>
    <ElForm v-else-if="mayEdit" label-position="top" class="give" @submit.prevent="give">
      <ElFormItem label="Key of the zone" for="zone-key" :error="giving.errors.value.key">
        <ElInput
          id="zone-key"
          v-model="given.key"
          type="textarea"
          :rows="3"
          placeholder="hmac-sha256:name:secret, or the key statement of the server"
          spellcheck="false"
        />
      </ElFormItem>
      <ElFormItem
        label="Address of the server that takes updates"
        for="zone-server"
        :error="giving.errors.value.server"
      >
        <ElInput
          id="zone-server"
          v-model="given.server"
          placeholder="the primary that the zone names"
        />
      </ElFormItem>
      <ElButton native-type="submit" :loading="giving.busy.value">Try the key and keep it</ElButton>
    </ElForm>
    <p v-else class="soft">No key of the zone is kept.</p>

    <p v-if="planning.errors.value.plan" role="alert" class="error">
      {{ planning.errors.value.plan }}
    </p>
    <div v-if="plan" class="plan">
      <h3>
        Would be written to {{ plan.zone }} at <span class="record">{{ plan.server }}</span>
      </h3>
      <WriteLines :lines="plan.lines" />
      <p class="soft">
        Nothing is written unless {{ plan.depends_on }} record sets are as they were read just now.
      </p>
      <ElButton type="primary" :loading="planning.busy.value" @click="write">Write it</ElButton>
    </div>

    <details v-for="(one, place) in sent" :key="one.id" :open="place === 0 && stands(one)">
      <summary>
        <strong>{{ STATES[one.state] }}</strong>
        <span class="soft"> {{ exact(one.created_at) }}, at {{ one.server }}</span>
      </summary>
      <p v-if="one.because">{{ one.because }}</p>
      <WriteLines :lines="one.lines" />
      <ElButton v-if="mayEdit && stands(one)" @click="taking = one">Take it back</ElButton>
    </details>
    <EndDialog
      v-model="taking"
      :title="`What was written to ${taking?.zone}`"
      action="Take it back"
      :end="(one) => api.undoPublication(one.id)"
      @ended="reload"
    >
      The records of before are put back, if nobody has changed them since.
    </EndDialog>
  </section>
</template>

<style scoped>
.publish {
  margin-top: calc(var(--step) * 4);
}

.give {
  max-width: 620px;
}

.plan,
details {
  margin-block: calc(var(--step) * 2);
}

summary {
  cursor: pointer;
}

.error {
  color: var(--blocked);
}
</style>

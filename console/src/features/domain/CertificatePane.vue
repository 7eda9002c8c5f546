<script setup lang="ts">
import type { Claim } from "@/api/client";
import { ElButton } from "element-plus";
import { computed, ref } from "vue";

import { exact, span } from "@/lib/time";
import { useSession } from "@/stores/session";

import BringDialog from "./BringDialog.vue";
import CheckList from "./CheckList.vue";
import LifeLine from "./LifeLine.vue";
import OrderStory from "./OrderStory.vue";
import ProbeTable from "./ProbeTable.vue";
import RevokeDialog from "./RevokeDialog.vue";
import { useCertificate } from "./useCertificate";

// The certificate of a domain: what it says, how long it lasts, how it came
// about, and what a browser gets.
const props = defineProps<{ claim: Claim; now: number }>();
const { view, checks, error, busy, reload, preflight, renew, revoke } = useCertificate(props.claim);
const session = useSession();
const bringing = ref(false);
const revoking = ref(false);
const mayAct = computed(() => session.who?.role === "operator" || session.who?.role === "admin");
const held = computed(() => view.value?.held ?? null);
const renewal = computed(() => {
  if (!held.value) return "";
  if (held.value.origin === "brought") return "by the customer, who brought it in";
  const at = held.value.renew_at;
  if (!at) return "when asked for";
  const left = Date.parse(at) - props.now;
  return left > 0 ? `in ${span(left)}` : "is due";
});

async function confirmed(reason: string) {
  if (await revoke(reason)) revoking.value = false;
}
</script>

<template>
  <div v-if="view" class="pane">
    <section>
      <div class="tools">
        <h2>{{ held ? "Held and served" : "None yet" }}</h2>
        <template v-if="mayAct">
          <ElButton :loading="busy === 'preflight'" @click="preflight">Preflight</ElButton>
          <ElButton v-if="held" :loading="busy === 'renew'" @click="renew">Renew now</ElButton>
          <ElButton @click="bringing = true">Bring one</ElButton>
          <ElButton v-if="held" type="danger" plain @click="revoking = true">Revoke</ElButton>
        </template>
      </div>
      <p v-if="error" role="alert" class="error">{{ error }}</p>
      <template v-if="held">
        <LifeLine :held="held" :now="now" />
        <dl>
          <dt>Names</dt>
          <dd class="record">{{ held.facts.names.join(", ") }}</dd>
          <dt>Issuer</dt>
          <dd class="record">{{ held.facts.issuer }}</dd>
          <dt>Serial</dt>
          <dd class="record">{{ held.facts.serial }}</dd>
          <dt>Valid</dt>
          <dd>
            {{ held.facts.not_before.slice(0, 10) }} to
            <span :title="exact(held.facts.not_after)">{{
              held.facts.not_after.slice(0, 10)
            }}</span>
          </dd>
          <dt>Renewed</dt>
          <dd :title="held.renew_at ? exact(held.renew_at) : ''">{{ renewal }}</dd>
          <dt>Control</dt>
          <dd>shown by {{ view.method }}</dd>
        </dl>
      </template>
      <p v-else>It is ordered by itself once ownership and routing are passed.</p>
    </section>
    <section v-if="checks">
      <h2>What the CA would find now</h2>
      <CheckList :checks="checks" />
      <p class="soft">Nothing was ordered.</p>
    </section>
    <section v-if="view.order">
      <h2>The latest order: {{ view.order.state }}</h2>
      <OrderStory :order="view.order" :now="now" />
    </section>
    <section v-if="view.probe">
      <h2>What a browser gets</h2>
      <ProbeTable :probe="view.probe" :serial="held?.facts.serial ?? ''" />
    </section>
    <section v-if="view.revocations.length">
      <h2>Revoked</h2>
      <ul>
        <li v-for="revocation in view.revocations" :key="revocation.serial">
          <span class="record">{{ revocation.serial }}</span> {{ revocation.reason }},
          <span v-if="revocation.done_at" :title="exact(revocation.done_at)">
            by the CA on {{ revocation.done_at.slice(0, 10) }}
          </span>
          <span v-else
            >not yet by the CA{{ revocation.problem ? `: ${revocation.problem}` : "" }}</span
          >
        </li>
      </ul>
    </section>
    <BringDialog v-model="bringing" :claim="claim" @brought="reload" />
    <RevokeDialog
      v-model="revoking"
      :host="claim.host"
      :busy="busy === 'revoke'"
      @revoke="confirmed"
    />
  </div>
  <p v-else-if="error" role="alert" class="error">{{ error }}</p>
  <p v-else class="soft">Reading …</p>
</template>

<style scoped>
.pane {
  display: grid;
  gap: calc(var(--step) * 4);
}

.tools {
  display: flex;
  gap: var(--step);
  align-items: center;
  margin-bottom: calc(var(--step) * 2);
  border-bottom: 1px solid var(--hairline);
  padding-bottom: 6px;
}

.tools h2 {
  margin-right: auto;
  border: 0;
  padding: 0;
}

dl {
  display: grid;
  grid-template-columns: 100px 1fr;
  gap: 4px calc(var(--step) * 2);
  margin: calc(var(--step) * 2) 0 0;
}

dt {
  color: var(--ink-soft);
}

dd {
  margin: 0;
}

.error {
  color: var(--blocked);
}
</style>

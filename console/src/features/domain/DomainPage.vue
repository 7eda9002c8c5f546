<script setup lang="ts">
import { ElButton, ElTabPane, ElTabs } from "element-plus";
import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";

import { api, type Claim } from "@/api/client";
import GatePosts from "@/components/GatePosts.vue";
import { useNow } from "@/composables/useNow";
import { exact, since, until } from "@/lib/time";
import { useSession } from "@/stores/session";

import BaselinePane from "./BaselinePane.vue";
import CertificatePane from "./CertificatePane.vue";
import EditTable from "./EditTable.vue";
import FindingPanel from "./FindingPanel.vue";
import HistoryList from "./HistoryList.vue";
import LifeNotes from "./LifeNotes.vue";
import MoveDialog from "./MoveDialog.vue";
import RehearsalPane from "./RehearsalPane.vue";
import ReleaseDialog from "./ReleaseDialog.vue";
import SheetPane from "./SheetPane.vue";
import SheetTable from "./SheetTable.vue";
import WaitPanel from "./WaitPanel.vue";
import { useDomain } from "./useDomain";

const props = defineProps<{ host: string }>();
const route = useRoute();
const router = useRouter();
const account = typeof route.query.account === "string" ? route.query.account : undefined;
const claim: Claim = { host: props.host, account };
const { detail, history, error, claims, look, reload } = useDomain(claim);
const session = useSession();
const releasing = ref(false);
const moving = ref(false);
const mayAct = computed(() => session.who?.role === "operator" || session.who?.role === "admin");
const now = useNow();
const looking = ref(false);
/** Which pane is open; kept in the address, so that it can be passed on. */
const pane = computed({
  get: () => String(route.query.pane ?? "now"),
  set: (pane) => {
    const query = { ...route.query, pane: pane === "now" ? undefined : pane };
    void router.replace({ query });
  },
});

const inUse = computed(() => {
  const { lines = [], view } = detail.value ?? {};
  return view ? view.in_use.map((place) => lines[place]) : [];
});
const held = computed(() => detail.value?.waits.some((wait) => wait.holds.length > 0) ?? false);

const rests = computed(() => Boolean(detail.value?.paused_at ?? detail.value?.suspended_at));
const resting = ref(false);

async function rest() {
  resting.value = true;
  const asked = detail.value?.paused_at ? api.resume(claim) : api.pause(claim);
  await asked.finally(() => (resting.value = false));
  await reload();
}

async function lookNow() {
  looking.value = true;
  await look().finally(() => (looking.value = false));
}
</script>

<template>
  <section v-if="detail" class="page" :data-stage="detail.stage">
    <header>
      <div class="title">
        <h1>{{ detail.shown }}</h1>
        <span class="soft"
          >site {{ detail.site }}, account
          <RouterLink :to="{ name: 'account', params: { name: detail.account } }">{{
            detail.account
          }}</RouterLink></span
        >
        <span v-if="detail.pair" class="soft">
          {{ detail.pair.is_primary ? "with" : "leads to" }}
          <RouterLink
            :to="{
              name: 'domain',
              params: { host: detail.pair.other },
              query: { account: detail.account },
            }"
            >{{ detail.pair.other }}</RouterLink
          >
        </span>
        <span class="next soft" :title="detail.next_look ? exact(detail.next_look) : ''">
          {{ detail.next_look ? `Next look ${until(detail.next_look, now)}` : detail.view.no_look }}
        </span>
        <template v-if="detail.stage !== 'released'">
          <ElButton v-if="!rests" :loading="looking" @click="lookNow">Look now</ElButton>
          <template v-if="mayAct">
            <ElButton text @click="moving = true">Move</ElButton>
            <ElButton text :loading="resting" @click="rest">{{
              detail.paused_at ? "Resume" : "Pause"
            }}</ElButton>
            <ElButton text @click="releasing = true">Release</ElButton>
          </template>
        </template>
        <strong v-else>has left the platform</strong>
      </div>
      <p v-if="detail.lookalike" class="lookalike">≈ {{ detail.lookalike.told }}</p>
      <LifeNotes :detail="detail" :now="now" />
      <p
        v-if="detail.registration?.expires_at"
        class="soft registration"
        :title="exact(detail.registration.expires_at)"
      >
        {{ detail.registration.domain }} is registered
        <template v-if="detail.registration.registrar"
          >at {{ detail.registration.registrar }}</template
        >
        until {{ detail.registration.expires_at.slice(0, 10) }}.
      </p>
      <p v-if="detail.operator" class="soft registration" data-operator>
        Its DNS is at
        <RouterLink :to="{ name: 'operators', hash: `#${detail.operator.operator}` }">{{
          detail.operator.operator
        }}</RouterLink>. {{ detail.operator.told }}
      </p>
      <div class="gates">
        <GatePosts :gates="detail.gates" large />
        <ol class="states">
          <li v-for="(gate, index) in detail.gates" :key="gate.name" :class="gate.state">
            <strong>{{ gate.name }}</strong>{{ " " }}<span class="state">{{ gate.state }}</span
            >{{ " "
            }}<span class="soft" :title="exact(gate.since)">{{ since(gate.since, now) }}</span>
            <div class="soft">{{ detail.view.gates[index].said }}</div>
          </li>
        </ol>
      </div>
    </header>
    <ElTabs v-model="pane">
      <ElTabPane label="Now" name="now">
        <div class="now">
          <section v-if="detail.findings.length">
            <h2>What is wrong, and what to do</h2>
            <FindingPanel
              v-for="finding in detail.findings"
              :key="finding.code"
              :finding="finding"
              :now="now"
            />
          </section>
          <section v-if="detail.view.list.length">
            <h2>For the customer, in this order</h2>
            <EditTable :edits="detail.view.list" />
          </section>
          <section v-if="held">
            <h2>How long it will take</h2>
            <WaitPanel :waits="detail.waits" :spreads="detail.spreads" :now="now" />
          </section>
          <section>
            <h2>
              {{ detail.ended ? "What was on the sheet for" : "What to publish in" }}
              {{ detail.zone }}, beside what is read
            </h2>
            <SheetTable :lines="inUse" />
          </section>
          <section v-if="!held && detail.spreads.length > 1">
            <h2>How it spread</h2>
            <WaitPanel :waits="detail.waits" :spreads="detail.spreads" :now="now" />
          </section>
          <section>
            <h2>What happened</h2>
            <HistoryList :events="history" />
          </section>
        </div>
      </ElTabPane>
      <ElTabPane label="Sheet" name="sheet" lazy><SheetPane :claim="claim" /></ElTabPane>
      <ElTabPane label="Certificate" name="certificate" lazy>
        <CertificatePane :claim="claim" :now="now" />
      </ElTabPane>
      <ElTabPane label="Baseline" name="baseline" lazy>
        <BaselinePane :claim="claim" :zone="detail.zone" />
      </ElTabPane>
      <ElTabPane label="Rehearsal" name="rehearsal" lazy>
        <RehearsalPane :claim="claim" />
      </ElTabPane>
    </ElTabs>
    <ReleaseDialog v-model="releasing" :claim="claim" @released="reload" />
    <MoveDialog v-model="moving" :claim="claim" :detail="detail" @moved="reload" />
  </section>
  <section v-else-if="error" class="page">
    <p>{{ error }} <RouterLink :to="{ name: 'roster' }">Back to the roster</RouterLink></p>
    <ul v-if="claims.length">
      <li v-for="line in claims" :key="line.account">
        <RouterLink :to="{ query: { ...route.query, account: line.account } }"
          >{{ line.shown }} of {{ line.account }}</RouterLink
        >
        <span class="soft">, {{ line.stage }}</span>
      </li>
    </ul>
  </section>
</template>

<style scoped>
.lookalike {
  color: var(--waiting);
  overflow-wrap: anywhere;
}

.registration {
  margin: var(--step) 0 0;
}

.title {
  display: flex;
  flex-wrap: wrap;
  gap: calc(var(--step) * 2);
  align-items: baseline;
}

.next {
  margin-left: auto;
}

.gates {
  display: grid;
  gap: calc(var(--step) * 2);
  margin-top: calc(var(--step) * 2);
}

.now {
  display: grid;
  gap: calc(var(--step) * 4);
}

.states {
  display: grid;
  grid-template-columns: repeat(4, 1fr);
  gap: calc(var(--step) * 2);
  margin: 0;
  padding: 0;
  list-style: none;
}

.passed .state {
  color: var(--act);
}

.waiting .state,
.lapsed .state {
  color: var(--waiting);
}

.blocked .state {
  color: var(--blocked);
}
</style>

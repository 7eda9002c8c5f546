<script setup lang="ts">
import { ElButton } from "element-plus";
import { computed, ref, watch } from "vue";

import { api, type Contest } from "@/api/client";
import { useLive } from "@/composables/useLive";
import { useNow } from "@/composables/useNow";
import { exact, since } from "@/lib/time";
import { useSession } from "@/stores/session";

import PartyPanel from "./PartyPanel.vue";
import RulingDialog from "./RulingDialog.vue";

const contests = ref<Contest[]>([]);
const settled = ref(false);
const next = ref<string | undefined>();
const loaded = ref(false);
const ruling = ref<{ contest: Contest; side: "holder" | "challenger" } | null>(null);
const session = useSession();
const now = useNow();
const mayRule = computed(() => session.who?.role === "operator" || session.who?.role === "admin");

async function reload() {
  const read = await api.contests(settled.value ? "contests?settled=true" : "contests");
  contests.value = read.rows;
  next.value = read.next;
  loaded.value = true;
}

async function showMore() {
  if (!next.value) return;
  const read = await api.contests(next.value);
  contests.value.push(...read.rows);
  next.value = read.next;
}

watch(settled, reload);
useLive(() => true, reload);
</script>

<template>
  <section class="page">
    <header>
      <h1>Contests</h1>
      <ElButton text @click="settled = !settled">
        {{ settled ? "Show those that are open" : "Show those that are settled" }}
      </ElButton>
    </header>
    <article v-for="contest in contests" :key="contest.id" :data-contest="contest.host">
      <h2>
        <span class="record">{{ contest.shown }}</span>
        <span class="soft" :title="exact(contest.opened_at)">
          contested {{ since(contest.opened_at, now) }}
        </span>
      </h2>
      <p class="told">{{ contest.told }}</p>
      <p v-if="contest.ruling" class="soft">
        Ruled for the {{ contest.ruling.side }} by {{ contest.ruling.by }}:
        {{ contest.ruling.because }}
      </p>
      <div class="sides">
        <PartyPanel
          v-for="side in ['holder', 'challenger'] as const"
          :key="side"
          :side="side"
          :host="contest.host"
          :party="contest[side]"
          :now="now"
        >
          <ElButton v-if="mayRule && !contest.settled" @click="ruling = { contest, side }">
            The name is {{ contest[side].account }}’s
          </ElButton>
        </PartyPanel>
      </div>
    </article>
    <p v-if="loaded && !contests.length" class="soft">
      {{ settled ? "No contest has been settled yet." : "No name is contested." }}
    </p>
    <p v-if="next"><ElButton @click="showMore">Show more</ElButton></p>
    <RulingDialog v-model="ruling" @ruled="reload" />
  </section>
</template>

<style scoped>
header {
  display: flex;
  gap: calc(var(--step) * 2);
  align-items: baseline;
  justify-content: space-between;
}

h2 .soft {
  font-size: 15px;
  font-weight: 400;
}

.told {
  margin: calc(var(--step) * 1.5) 0;
}

.sides {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(320px, 1fr));
  gap: calc(var(--step) * 4);
}
</style>

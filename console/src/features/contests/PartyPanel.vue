<script setup lang="ts">
import { computed, ref, watch } from "vue";

import { api, type JudgedLine, type Party } from "@/api/client";
import GatePosts from "@/components/GatePosts.vue";
import VerdictMark from "@/components/VerdictMark.vue";
import { exact, since } from "@/lib/time";

// One side of a contest, with what the zone's servers say of its token.
const props = defineProps<{ side: string; host: string; party: Party; now: number }>();
const lines = ref<JudgedLine[]>([]);
const claim = computed(() => ({ host: props.host, account: props.party.account }));

watch(
  () => [props.party.looked_at, props.party.account],
  async () => {
    const detail = await api.domain(claim.value);
    lines.value = detail.view.in_use
      .map((place) => detail.lines[place])
      .filter((line) => line.purpose === "ownership");
  },
  { immediate: true },
);

const source = (cell: JudgedLine["cells"][number]) =>
  cell.source.kind === "authority" ? cell.source.server : cell.source.name;
</script>

<template>
  <section :data-side="side">
    <h3>
      {{ side === "holder" ? "Holds the name" : "Has proved itself too" }}:
      <RouterLink :to="{ name: 'account', params: { name: party.account } }">{{
        party.account
      }}</RouterLink>
    </h3>
    <dl>
      <dt>Site</dt>
      <dd>{{ party.site }}</dd>
      <dt>Claimed</dt>
      <dd :title="exact(party.enrolled_at)">{{ since(party.enrolled_at, now) }}</dd>
      <template v-if="party.held_since">
        <dt>Holds it</dt>
        <dd :title="exact(party.held_since)">{{ since(party.held_since, now) }}</dd>
      </template>
      <dt>Gates</dt>
      <dd>
        <RouterLink
          :to="{ name: 'domain', params: { host }, query: { account: party.account } }"
          :aria-label="`${host} of ${party.account}`"
        >
          <GatePosts :gates="party.gates" />
        </RouterLink>
        {{ party.stage }}
      </dd>
      <template v-for="line in lines" :key="line.way + line.rtype + line.value">
        <dt>{{ line.rtype }}</dt>
        <dd>
          <code class="record">{{ line.owner }}</code>
          <div v-for="cell in line.cells" :key="source(cell)">
            <VerdictMark :verdict="cell.verdict" word />
            <span class="soft source">{{ source(cell) }}</span>
          </div>
        </dd>
      </template>
    </dl>
    <slot />
  </section>
</template>

<style scoped>
section {
  display: flex;
  flex-direction: column;
  align-items: flex-start;
}

.source {
  margin-left: var(--step);
}

h3 {
  font-size: 16px;
}

dl {
  flex: 1;
  display: grid;
  align-content: start;
  grid-template-columns: 90px 1fr;
  gap: 6px calc(var(--step) * 2);
}

dt {
  color: var(--ink-soft);
}

dd {
  margin: 0;
  overflow-wrap: anywhere;
}
</style>

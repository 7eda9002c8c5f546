<script setup lang="ts">
import { ElButton, ElOption, ElSelect } from "element-plus";

import type { FleetCertificate } from "@/api/client";
import { useNow } from "@/composables/useNow";
import { exact, span } from "@/lib/time";
import { useSession } from "@/stores/session";

import FleetChart from "./FleetChart.vue";
import IssuerPanel from "./IssuerPanel.vue";
import { useFleet } from "./useFleet";

// What of the fleet expires when.
const { rows, days, within, next, loaded, showMore } = useFleet();
const session = useSession();
const now = useNow();
const WITHIN = { all: "any time", 1: "a day", 7: "7 days", 14: "14 days", 30: "30 days" };

const left = (row: FleetCertificate) => Date.parse(row.facts.not_after) - now.value;
const overdue = (row: FleetCertificate) =>
  row.renew_at ? Date.parse(row.renew_at) < now.value : left(row) < 30 * 86400000;
function renewal(row: FleetCertificate): string {
  if (row.origin === "brought") return "by the customer";
  if (!row.renew_at) return "when asked for";
  return overdue(row) ? "is due" : `in ${span(Date.parse(row.renew_at) - now.value)}`;
}
const name = (issuer: string) => /CN=([^,]+)/.exec(issuer)?.[1] ?? issuer;
</script>

<template>
  <section class="page">
    <section>
      <div class="tools">
        <h1>Certificates</h1>
        <label for="within" class="soft">Running out within</label>
        <ElSelect id="within" v-model="within" class="within" aria-label="Running out within">
          <ElOption v-for="(words, value) in WITHIN" :key="value" :value="value" :label="words" />
        </ElSelect>
      </div>
      <FleetChart :days="days" />
    </section>
    <table v-if="rows.length">
      <thead>
        <tr>
          <th scope="col">Runs out</th>
          <th scope="col">Domains</th>
          <th scope="col">Account</th>
          <th scope="col">From</th>
          <th scope="col">Renewed</th>
        </tr>
      </thead>
      <tbody>
        <tr
          v-for="row in rows"
          :key="row.facts.serial"
          :data-serial="row.facts.serial"
          :class="{ late: overdue(row) }"
        >
          <td :title="exact(row.facts.not_after)" class="when">
            {{ row.facts.not_after.slice(0, 10) }}
            <span class="soft">in {{ span(left(row)) }}</span>
          </td>
          <td>
            <RouterLink
              v-for="(host, index) in row.hosts"
              :key="host"
              class="record host"
              :to="{
                name: 'domain',
                params: { host },
                query: { account: row.account, pane: 'certificate' },
              }"
              >{{ row.shown[index] }}</RouterLink
            >
          </td>
          <td>{{ row.account }}</td>
          <td>{{ name(row.facts.issuer) }}{{ row.origin === "brought" ? ", brought in" : "" }}</td>
          <td class="renewal" :title="row.renew_at ? exact(row.renew_at) : ''">
            {{ renewal(row) }}
          </td>
        </tr>
      </tbody>
    </table>
    <p v-else-if="loaded" class="soft">None. A longer time may show some.</p>
    <p v-if="next"><ElButton @click="showMore">Show more</ElButton></p>
    <IssuerPanel v-if="!session.isNarrow" />
  </section>
</template>

<style scoped>
.tools {
  display: flex;
  gap: var(--step);
  align-items: center;
  margin-bottom: calc(var(--step) * 2);
}

h1 {
  margin-right: auto;
}

.within {
  width: 120px;
}

.when {
  white-space: nowrap;
}

.host {
  display: block;
}

.late .renewal {
  color: var(--blocked);
}
</style>

<script setup lang="ts">
import { ElButton, ElInput } from "element-plus";
import { computed, ref } from "vue";

import GatePosts from "@/components/GatePosts.vue";
import { useNow } from "@/composables/useNow";
import { exact, since } from "@/lib/time";
import { useSession } from "@/stores/session";

import EnrolDialog from "./EnrolDialog.vue";
import StageBar from "./StageBar.vue";
import { useRoster } from "./useRoster";

const { rows: lines, counts, filters, set, more, loaded, showMore } = useRoster();
const stage = computed({
  get: () => filters.value.stage ?? "",
  set: (stage) => void set({ stage: stage || undefined }),
});
const text = computed({
  get: () => filters.value.text ?? "",
  set: (text) => void set({ text: text || undefined }),
});
const session = useSession();
const now = useNow();
const enrolling = ref(false);
const mayEnrol = computed(() => session.who?.role === "operator" || session.who?.role === "admin");
</script>

<template>
  <section class="page">
    <StageBar v-model="stage" :counts="counts" />
    <div class="tools">
      <h1>Roster</h1>
      <ElInput
        v-model="text"
        class="find"
        placeholder="Part of a name"
        aria-label="Part of a name"
        clearable
      />
      <ElButton v-if="mayEnrol" type="primary" @click="enrolling = true">Enrol a domain</ElButton>
    </div>
    <table v-if="lines.length">
      <thead>
        <tr>
          <th scope="col">Domain</th>
          <th scope="col">Account</th>
          <th scope="col">Gates</th>
          <th scope="col">Stage</th>
          <th scope="col">Findings</th>
          <th scope="col">Unchanged</th>
        </tr>
      </thead>
      <tbody>
        <tr
          v-for="line in lines"
          :key="line.host + line.account"
          :data-host="line.host"
          :data-stage="line.stage"
        >
          <td>
            <RouterLink
              class="record"
              :to="{
                name: 'domain',
                params: { host: line.host },
                query: { account: line.account },
              }"
              >{{ line.shown }}</RouterLink
            >
            <div v-if="line.lookalike" class="lookalike">
              ≈ {{ line.lookalike }}: {{ line.host }}
            </div>
          </td>
          <td>
            <RouterLink :to="{ name: 'account', params: { name: line.account } }">{{
              line.account
            }}</RouterLink>
          </td>
          <td><GatePosts :gates="line.gates" /></td>
          <td>{{ line.stage }}</td>
          <td class="finding">{{ line.findings.join(", ") }}</td>
          <td class="soft span" :title="exact(line.moved_at)">{{ since(line.moved_at, now) }}</td>
        </tr>
      </tbody>
    </table>
    <p v-else-if="loaded" class="soft">No domain fits. Enrol one, or widen the search.</p>
    <p v-if="more"><ElButton @click="showMore">Show more</ElButton></p>
    <EnrolDialog v-model="enrolling" />
  </section>
</template>

<style scoped>
.tools {
  display: flex;
  gap: calc(var(--step) * 2);
  align-items: center;
}

h1 {
  margin-right: auto;
}

.find {
  width: 260px;
}

.lookalike {
  color: var(--waiting);
  overflow-wrap: anywhere;
}

.finding {
  color: var(--blocked);
}

.span {
  white-space: nowrap;
}
</style>

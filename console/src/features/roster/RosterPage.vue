<script setup lang="ts">
import { ElButton, ElCheckboxGroup, ElCheckbox, ElInput, ElPopover } from "element-plus";
import { computed, ref } from "vue";

import GatePosts from "@/components/GatePosts.vue";
import { useNow } from "@/composables/useNow";
import { useRowKeys } from "@/composables/useRowKeys";
import { exact, since } from "@/lib/time";
import { useSession } from "@/stores/session";

import BulkDialog from "./BulkDialog.vue";
import EnrolDialog from "./EnrolDialog.vue";
import FilterBar from "./FilterBar.vue";
import StageBar from "./StageBar.vue";
import ViewBar from "./ViewBar.vue";
import { useRoster } from "./useRoster";
import { COLUMNS, useViews } from "./useViews";

const {
  rows: lines,
  counts,
  faults,
  filters,
  set,
  more,
  loaded,
  showMore,
  saving,
  save,
} = useRoster();
const { views, columns, save: keep, drop } = useViews();
const stage = computed({
  get: () => filters.value.stage ?? "",
  set: (stage) => void set({ stage: stage || undefined }),
});
const text = computed({
  get: () => filters.value.text ?? "",
  set: (text) => void set({ text: text || undefined }),
});

/** Filters that stand in no other place than the bar. */
const narrowed = computed(
  () => Object.keys(filters.value).filter((name) => name !== "stage" && name !== "text").length,
);
const filtering = ref(narrowed.value > 0);
const session = useSession();
const now = useNow();
const enrolling = ref(false);
const working = ref(false);
const find = ref<InstanceType<typeof ElInput>>();
const shows = (column: keyof typeof COLUMNS) => columns.value.includes(column);
useRowKeys(() => find.value?.input);
</script>

<template>
  <section class="page">
    <StageBar v-model="stage" :counts="counts" />
    <div class="tools">
      <h1>Roster</h1>
      <ElInput
        ref="find"
        v-model="text"
        class="find"
        placeholder="Part of a name  ( / )"
        aria-label="Part of a name"
        clearable
      />
      <ElButton :aria-expanded="filtering" @click="filtering = !filtering">
        Filters{{ narrowed ? ` (${narrowed})` : "" }}
      </ElButton>
      <ElPopover trigger="click" width="200" title="Columns">
        <template #reference><ElButton>Columns</ElButton></template>
        <ElCheckboxGroup v-model="columns" class="columns">
          <ElCheckbox v-for="(name, key) in COLUMNS" :key="key" :value="key">{{ name }}</ElCheckbox>
        </ElCheckboxGroup>
      </ElPopover>
      <ElButton :loading="saving" @click="save">Save as CSV</ElButton>
      <template v-if="session.mayOperate">
        <ElButton :disabled="!lines.length" @click="working = true">Do to all …</ElButton>
        <ElButton type="primary" @click="enrolling = true">Enrol a domain</ElButton>
      </template>
    </div>
    <ViewBar :views="views" :filters="filters" @keep="keep" @drop="drop" />
    <FilterBar v-if="filtering" :filters="filters" :faults="faults" @set="set" />
    <table v-if="lines.length">
      <thead>
        <tr>
          <th scope="col">Domain</th>
          <template v-for="(name, key) in COLUMNS" :key="key">
            <th v-if="shows(key)" scope="col">{{ name }}</th>
          </template>
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
              data-row
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
          <td v-if="shows('account')">
            <RouterLink :to="{ name: 'account', params: { name: line.account } }">{{
              line.account
            }}</RouterLink>
          </td>
          <td v-if="shows('site')">{{ line.site }}</td>
          <td v-if="shows('gates')"><GatePosts :gates="line.gates" /></td>
          <td v-if="shows('stage')">{{ line.stage }}</td>
          <td v-if="shows('findings')" class="finding">{{ line.findings.join(", ") }}</td>
          <td v-if="shows('operator')">{{ line.operator }}</td>
          <td v-if="shows('enrolled')" class="soft span" :title="exact(line.enrolled_at)">
            {{ since(line.enrolled_at, now) }}
          </td>
          <td v-if="shows('moved')" class="soft span" :title="exact(line.moved_at)">
            {{ since(line.moved_at, now) }}
          </td>
        </tr>
      </tbody>
    </table>
    <p v-else-if="loaded" class="soft">
      {{
        more
          ? "None so far. Show more to look on."
          : "No domain fits. Enrol one, or widen the search."
      }}
    </p>
    <p v-if="more"><ElButton @click="showMore">Show more</ElButton></p>
    <EnrolDialog v-model="enrolling" />
    <BulkDialog v-model="working" :filters="filters" />
  </section>
</template>

<style scoped>
.tools {
  display: flex;
  flex-wrap: wrap;
  gap: var(--step);
  align-items: center;
}

.tools > :deep(.el-button + .el-button) {
  margin-left: 0;
}

h1 {
  margin-right: auto;
}

.find {
  width: 220px;
}

.columns {
  display: grid;
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

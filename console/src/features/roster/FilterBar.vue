<script setup lang="ts">
import { ElButton, ElInput, ElOption, ElSelect } from "element-plus";
import { computed, onMounted, ref } from "vue";

import { api, type Ingress } from "@/api/client";
import SitePicker from "@/components/SitePicker.vue";

import type { Filter, Filters } from "./useRoster";

// Everything that the roster may be filtered and sorted by, each in its place.
const props = defineProps<{ filters: Filters; faults: Record<string, string> }>();
const emit = defineEmits<{ set: [change: Filters] }>();
const ingresses = ref<Ingress[]>([]);
const codes = ref<string[]>([]);
const operators = ref<string[]>([]);

onMounted(async () => {
  const [known, findings, counts] = await Promise.all([
    api.ingresses(),
    api.findings(),
    // An account that there is not is told at its field.
    api.counts({ account: props.filters.account }).catch(() => ({ operators: [] })),
  ]);
  ingresses.value = known;
  codes.value = findings.map((finding) => finding.code);
  operators.value = counts.operators.map((one) => one.operator);
});

const of = (name: Filter) =>
  computed({
    get: () => props.filters[name] ?? "",
    set: (value: string) => emit("set", { [name]: value || undefined }),
  });
const account = of("account");
const site = of("site");
const ingress = of("ingress");
const operator = of("operator");
const finding = of("finding");
const older = of("older_than");
const younger = of("younger_than");
const sort = computed({
  get: () => props.filters.sort ?? "name",
  set: (value: string) => emit("set", { sort: value === "name" ? undefined : value }),
});
const descending = of("descending");
const SORTS = { name: "name", stage: "stage", enrolled: "when taken in", moved: "last change" };
</script>

<template>
  <form class="filters" aria-label="Filters" @submit.prevent>
    <label>
      <span>Account</span>
      <ElInput v-model.lazy="account" placeholder="any" clearable @clear="account = ''" />
      <em v-if="faults.account" role="alert">{{ faults.account }}</em>
    </label>
    <label for="filter-site">
      <span>Site</span>
      <SitePicker id="filter-site" v-model="site" :account="filters.account" clearable />
    </label>
    <label for="filter-finding">
      <span>Finding</span>
      <ElSelect id="filter-finding" v-model="finding" placeholder="any" filterable clearable>
        <ElOption v-for="code in codes" :key="code" :value="code" :label="code" />
      </ElSelect>
    </label>
    <label for="filter-operator">
      <span>DNS operator</span>
      <ElSelect
        id="filter-operator"
        v-model="operator"
        placeholder="any"
        filterable
        clearable
        allow-create
      >
        <ElOption v-for="name in operators" :key="name" :value="name" :label="name" />
      </ElSelect>
    </label>
    <label for="filter-ingress">
      <span>Ingress</span>
      <ElSelect id="filter-ingress" v-model="ingress" placeholder="any" clearable>
        <ElOption v-for="one in ingresses" :key="one.name" :value="one.name" :label="one.name" />
      </ElSelect>
    </label>
    <label>
      <span>Older than, in days</span>
      <ElInput v-model.lazy="older" type="number" min="0" max="36500" placeholder="any" />
    </label>
    <label>
      <span>Younger than, in days</span>
      <ElInput v-model.lazy="younger" type="number" min="0" max="36500" placeholder="any" />
    </label>
    <label for="filter-sort">
      <span>Sorted by</span>
      <span class="sort">
        <ElSelect id="filter-sort" v-model="sort">
          <ElOption v-for="(words, value) in SORTS" :key="value" :value="value" :label="words" />
        </ElSelect>
        <ElButton
          :aria-pressed="Boolean(descending)"
          :title="descending ? 'From the end' : 'From the start'"
          @click="descending = descending ? '' : 'true'"
          >{{ descending ? "↑" : "↓" }}</ElButton
        >
      </span>
    </label>
  </form>
</template>

<style scoped>
.filters {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(200px, 1fr));
  gap: calc(var(--step) * 1.5) calc(var(--step) * 3);
}

label > span:first-child {
  display: block;
  color: var(--ink-soft);
  font-size: 14px;
}

label > em {
  color: var(--blocked);
  font-size: 14px;
}

.sort {
  display: flex;
  gap: var(--step);
}
</style>

<script setup lang="ts">
import { ElButton, ElInput } from "element-plus";
import { computed } from "vue";
import { useRoute, useRouter } from "vue-router";

import { api, listing, type AuditEntry } from "@/api/client";
import { usePages } from "@/composables/usePages";
import { exact } from "@/lib/time";

// Who changed what, from where, and what was before.
const route = useRoute();
const router = useRouter();
const of = (name: "by" | "name") =>
  computed({
    get: () => String(route.query[name] ?? ""),
    set: (value: string) =>
      void router.replace({ query: { ...route.query, [name]: value.trim() || undefined } }),
  });
const by = of("by");
const name = of("name");

const { rows, more, loaded, showMore } = usePages<AuditEntry>(
  () => listing("audit", { by: by.value, name: name.value }),
  api.audit,
  (event) => event.type.startsWith("nomenta."),
);

/** A moment to the microsecond, of which nobody reads more than the minute. */
const MOMENT = /^(\d{4}-\d\d-\d\d)T(\d\d:\d\d):[\d.]+\+00:00$/;

const said = (value: unknown): string =>
  value === null || value === undefined
    ? "–"
    : typeof value === "string"
      ? value.replace(MOMENT, "$1 $2 UTC")
      : JSON.stringify(value);

/** What is different, field by field. */
function differences({ before, after }: AuditEntry) {
  const was = (before ?? {}) as Record<string, unknown>;
  const is = (after ?? {}) as Record<string, unknown>;
  const fields = [...new Set([...Object.keys(was), ...Object.keys(is)])].sort();
  return fields.map((field) => ({
    field,
    was: field in was ? said(was[field]) : undefined,
    is: field in is ? said(is[field]) : undefined,
  }));
}
const day = (at: string) => exact(at).replace("T", " ").slice(0, 16);
</script>

<template>
  <div class="tools">
    <label>By the key <ElInput v-model.lazy="by" placeholder="any" clearable /></label>
    <label>Of the record <ElInput v-model.lazy="name" placeholder="any" clearable /></label>
  </div>
  <table v-if="rows.length">
    <thead>
      <tr>
        <th scope="col">When, UTC</th>
        <th scope="col">Who</th>
        <th scope="col">What</th>
        <th scope="col">Before and after</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="entry in rows" :key="entry.seq" :data-kind="entry.kind">
        <td class="when" :title="exact(entry.at)">{{ day(entry.at) }}</td>
        <td>
          {{ entry.who }} <span class="soft">{{ entry.role }}</span>
          <div class="soft">{{ entry.from }}</div>
        </td>
        <td class="what">
          {{ entry.kind }} {{ entry.act }}
          <div class="record">{{ entry.name }}</div>
          <div class="soft call">{{ entry.call }}</div>
        </td>
        <td>
          <div v-for="one in differences(entry)" :key="one.field" class="difference">
            <span class="soft">{{ one.field.replaceAll("_", " ") }}</span>
            <del v-if="one.was !== undefined">{{ one.was }}</del>
            <ins v-if="one.is !== undefined">{{ one.is }}</ins>
          </div>
        </td>
      </tr>
    </tbody>
  </table>
  <p v-else-if="loaded" class="soft">Nothing was changed by anybody.</p>
  <p v-if="more"><ElButton @click="showMore">Show more</ElButton></p>
</template>

<style scoped>
.tools {
  display: flex;
  flex-wrap: wrap;
  gap: calc(var(--step) * 2);
}

.tools label {
  color: var(--ink-soft);
  font-size: 14px;
}

.when {
  font-variant-numeric: tabular-nums;
  white-space: nowrap;
}

.what {
  min-width: 300px;
}

.call,
.difference {
  overflow-wrap: anywhere;
}

.difference {
  display: flex;
  flex-wrap: wrap;
  gap: 0 var(--step);
}

del {
  color: var(--blocked);
}

ins {
  color: var(--act);
  text-decoration: none;
}
</style>

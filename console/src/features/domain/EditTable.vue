<script setup lang="ts">
import type { Edit } from "@/api/client";
import CopyField from "@/components/CopyField.vue";

// What to keep, delete, change and add, in the order in which it is safe.
defineProps<{ edits: Edit[] }>();
</script>

<template>
  <table>
    <thead>
      <tr>
        <th scope="col">Do</th>
        <th scope="col">Type</th>
        <th scope="col">Host</th>
        <th scope="col">Value</th>
      </tr>
    </thead>
    <tbody>
      <tr
        v-for="edit in edits"
        :key="`${edit.kind} ${edit.rtype} ${edit.owner} ${edit.value}`"
        :class="edit.kind"
      >
        <td class="do">{{ edit.kind }}</td>
        <td class="record">{{ edit.rtype }}</td>
        <td>
          <CopyField v-if="edit.host_field" :value="edit.host_field" what="host" />
          <span v-else class="soft">(leave it empty)</span>
        </td>
        <td>
          <CopyField :value="edit.value" what="value" />
          <div v-if="edit.was" class="record soft">now {{ edit.was }}</div>
        </td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.do {
  width: 70px;
  font-weight: 600;
}

.add .do,
.change .do {
  color: var(--act);
}

.delete .do {
  color: var(--blocked);
}

.keep .do {
  color: var(--ink-soft);
  font-weight: 400;
}
</style>

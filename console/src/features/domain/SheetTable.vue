<script setup lang="ts">
import { computed } from "vue";

import type { JudgedLine } from "@/api/client";
import CopyField from "@/components/CopyField.vue";
import VerdictMark from "@/components/VerdictMark.vue";
import { editorType } from "@/lib/sheet";

type Cell = JudgedLine["cells"][number];

const props = defineProps<{ lines: JudgedLine[] }>();

const name = (cell: Cell) =>
  cell.source.kind === "authority" ? cell.source.address : cell.source.name;
const sources = computed(() => {
  const seen = new Map(props.lines.flatMap((l) => l.cells).map((c) => [name(c), c.source]));
  return [...seen].map(([label, source]) => ({ label, source }));
});
const cells = (line: JudgedLine) =>
  sources.value.map(({ label }) => line.cells.find((cell) => name(cell) === label));
const story = (cell: Cell) => {
  const read = cell.read.length ? cell.read.join("\n") : "nothing there";
  return cell.ttl == null ? read : `${read}\nTTL ${cell.ttl} s`;
};
</script>

<template>
  <table>
    <thead>
      <tr>
        <th scope="col">Type</th>
        <th scope="col">Host</th>
        <th scope="col">Value</th>
        <th scope="col">TTL</th>
        <th v-for="{ label, source } in sources" :key="label" scope="col" class="source">
          {{ label }}
          <small>{{ source.kind === "authority" ? source.server.split(".")[0] : "vantage" }}</small>
        </th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="line in lines" :key="line.way + line.rtype + line.value">
        <td class="record">{{ editorType(line) }}</td>
        <td><CopyField :value="line.host_field || line.owner" what="host" /></td>
        <td><CopyField :value="line.value_field" what="value" /></td>
        <td class="record">{{ line.ttl }}</td>
        <td v-for="(cell, index) in cells(line)" :key="index" :title="cell && story(cell)">
          <VerdictMark v-if="cell" :verdict="cell.verdict" word />
        </td>
      </tr>
    </tbody>
  </table>
  <p v-if="!sources.length" class="soft">Nothing could be read yet.</p>
</template>

<style scoped>
.source small {
  display: block;
  font-weight: 400;
}
</style>

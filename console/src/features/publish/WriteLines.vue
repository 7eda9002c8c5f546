<script setup lang="ts">
import type { WriteLine } from "@/api/client";

// What an update takes away and adds.
defineProps<{ lines: WriteLine[] }>();
</script>

<template>
  <table>
    <thead>
      <tr>
        <th scope="col">Do</th>
        <th scope="col">Name</th>
        <th scope="col">Type</th>
        <th scope="col">Value</th>
        <th scope="col">TTL</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="line in lines" :key="`${line.act} ${line.owner} ${line.rtype} ${line.value}`">
        <td :class="line.act">{{ line.act }}</td>
        <td class="record">{{ line.owner }}</td>
        <td class="record">{{ line.rtype }}</td>
        <td class="record">{{ line.value }}</td>
        <td class="record">{{ line.ttl }} s</td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
td {
  overflow-wrap: anywhere;
}

.add,
.remove {
  width: 80px;
  font-weight: 600;
}

.add {
  color: var(--act);
}

.remove {
  color: var(--blocked);
}
</style>

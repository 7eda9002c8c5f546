<script setup lang="ts">
import type { Sheet } from "@/api/client";
import CopyField from "@/components/CopyField.vue";
import { choices, editorType, PURPOSES } from "@/lib/sheet";

// Everything that may be published for one domain, choices shown as choices.
defineProps<{ sheet: Sheet; headings: Record<string, string> }>();
</script>

<template>
  <section
    v-for="{ purpose, choices: offered } in choices(sheet.lines)"
    :key="purpose"
    class="purpose"
  >
    <h3>
      {{ PURPOSES[purpose] }}<span v-if="offered.length > 1" class="soft">, one of these</span>
    </h3>
    <div v-for="({ choice, lines }, index) in offered" :key="choice" class="choice">
      <p v-if="offered.length > 1">
        <strong>{{ index === 0 ? "Best" : "Or" }}:</strong> {{ headings[choice] }}
      </p>
      <table>
        <thead>
          <tr>
            <th scope="col">Type</th>
            <th scope="col">Host</th>
            <th v-if="!sheet.form" scope="col">or the full host</th>
            <th scope="col">Value</th>
            <th scope="col">TTL</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="line in lines" :key="line.rtype + line.value">
            <td class="record">{{ editorType(line) }}</td>
            <td>
              <CopyField v-if="line.host_field" :value="line.host_field" what="host" />
              <span v-else class="soft">(leave it empty)</span>
            </td>
            <td v-if="!sheet.form"><CopyField :value="line.owner" what="full host" /></td>
            <td><CopyField :value="line.value_field" what="value" /></td>
            <td class="record">{{ line.ttl }}</td>
          </tr>
        </tbody>
      </table>
    </div>
  </section>
  <p class="soft">
    {{
      sheet.form
        ? `Typed as the editor of ${sheet.form.name} wants it.`
        : `The host is the short one, for editors that add ${sheet.zone} by themselves; where the full name is wanted, take that.`
    }}
  </p>
</template>

<style scoped>
.purpose {
  margin-bottom: calc(var(--step) * 3);
}

.choice {
  margin: var(--step) 0 0 calc(var(--step) * 2);
}

p {
  margin: var(--step) 0 0;
}

table {
  table-layout: fixed;
}

th:first-child {
  width: 76px;
}

th:last-child {
  width: 60px;
}
</style>

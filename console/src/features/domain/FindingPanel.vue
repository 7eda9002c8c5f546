<script setup lang="ts">
import type { OpenFinding } from "@/api/client";
import CopyField from "@/components/CopyField.vue";
import { exact, since } from "@/lib/time";

defineProps<{ finding: OpenFinding; now: number }>();
</script>

<template>
  <article :class="finding.severity" :data-code="finding.code">
    <h3>
      {{ finding.code }}
      <span class="soft" :title="exact(finding.first_seen)">{{
        since(finding.first_seen, now)
      }}</span>
    </h3>
    <p>{{ finding.remedy }}</p>
    <table v-if="finding.edits.length">
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
          v-for="edit in finding.edits"
          :key="`${edit.kind} ${edit.rtype} ${edit.owner} ${edit.value}`"
        >
          <td class="do">{{ edit.kind }}</td>
          <td class="record">{{ edit.rtype }}</td>
          <td><CopyField :value="edit.host_field" what="host" /></td>
          <td><CopyField :value="edit.value" what="value" /></td>
        </tr>
      </tbody>
    </table>
    <details>
      <summary>Evidence</summary>
      <p>{{ finding.remark }}</p>
      <ul>
        <li v-for="seen in finding.evidence" :key="seen.source + seen.said" class="record">
          {{ seen.source }}: {{ seen.said }}{{ seen.ttl == null ? "" : `, TTL ${seen.ttl} s` }}
        </li>
      </ul>
    </details>
  </article>
</template>

<style scoped>
article {
  padding: calc(var(--step) * 2) 0 calc(var(--step) * 2) calc(var(--step) * 2);
  border-bottom: 1px solid var(--hairline);
  border-left: 4px solid var(--waiting);
}

.blocker {
  border-left-color: var(--blocked);
}

h3 {
  font-family: var(--mono);
  font-size: 16px;
}

h3 span {
  font-family: var(--prose);
  font-weight: 400;
}

p {
  max-width: 76ch;
  margin: var(--step) 0;
  overflow-wrap: anywhere;
}

.do {
  width: 70px;
  font-weight: 600;
}

details {
  margin-top: var(--step);
}

summary {
  color: var(--act);
  cursor: pointer;
}
</style>

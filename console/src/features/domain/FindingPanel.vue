<script setup lang="ts">
import type { OpenFinding } from "@/api/client";
import { exact, since } from "@/lib/time";

import EditTable from "./EditTable.vue";

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
    <EditTable v-if="finding.edits.length" :edits="finding.edits" />
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

details {
  margin-top: var(--step);
}

summary {
  color: var(--act);
  cursor: pointer;
}
</style>

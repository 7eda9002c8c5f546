<script setup lang="ts">
import type { Verdict } from "@/api/client";

// The shape carries the verdict, the word repeats it, the colour comes last.
defineProps<{ verdict: Verdict; word?: boolean }>();
</script>

<template>
  <span class="mark" :class="verdict">
    <svg viewBox="0 0 14 14" role="img" :aria-label="verdict">
      <circle v-if="verdict === 'match'" class="fill" cx="7" cy="7" r="5.5" />
      <circle v-else-if="verdict === 'absent'" class="ring" cx="7" cy="7" r="5" />
      <g v-else-if="verdict === 'partial'">
        <circle class="ring" cx="7" cy="7" r="5" />
        <path class="fill" d="M7 2a5 5 0 0 0 0 10z" />
      </g>
      <path v-else-if="verdict === 'differs'" class="fill" d="M7 0.5 13.5 7 7 13.5 0.5 7z" />
      <path v-else class="ring" d="M2 2l10 10M12 2L2 12" />
    </svg>
    <span v-if="word">{{ verdict }}</span>
  </span>
</template>

<style scoped>
.mark {
  display: inline-flex;
  gap: 6px;
  align-items: baseline;
  color: var(--waiting);
}

.match {
  color: var(--act);
}

.differs,
.partial {
  color: var(--blocked);
}

.unreadable {
  color: var(--ink-soft);
}

svg {
  flex: none;
  width: 14px;
  height: 14px;
  transform: translateY(2px);
}

.fill {
  fill: currentColor;
}

.ring {
  fill: none;
  stroke: currentColor;
  stroke-width: 2;
}
</style>

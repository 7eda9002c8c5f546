<script setup lang="ts">
import { computed } from "vue";

import type { DomainDetail } from "@/api/client";
import { exact, since, until } from "@/lib/time";

// What holds for the domain as a whole, beside its gates: in words, as one would
// tell it.
const props = defineProps<{ detail: DomainDetail; now: number }>();

const phases: Record<string, string> = {
  ruling: "Claimed twice: both tokens stand in the zone, and a person rules.",
  grace: "Claimed twice: the holder's token is gone.",
  handover: "Claimed twice: the name goes over with the challenger's certificate.",
};
const endings: Record<string, string> = {
  released: "It was released",
  expired: "It was given up, since it was never proved,",
  lost: "Another claim has the name; this one ended",
};
const notes = computed(() => {
  const { contest, ended, paused_at, suspended_at, shows, default_host } = props.detail;
  const told: { text: string; at?: string; contest?: boolean }[] = [];
  if (ended)
    told.push({ text: `${endings[ended.ending]} ${since(ended.at, props.now)}.`, at: ended.at });
  if (paused_at) told.push({ text: `Paused ${since(paused_at, props.now)}.`, at: paused_at });
  if (suspended_at) {
    told.push({ text: "The account is suspended, and the route withdrawn.", at: suspended_at });
  }
  if (shows.switch_at) {
    const when = until(shows.switch_at, props.now);
    const text = shows.next_site
      ? `Shows the site ${shows.next_site} ${when}.`
      : `Leads to ${default_host}; shows its site ${when}.`;
    told.push({ text, at: shows.switch_at });
  }
  if (contest) {
    const ends = contest.grace_ends_at
      ? ` It may come back ${until(contest.grace_ends_at, props.now)}.`
      : "";
    told.push({ text: phases[contest.phase] + ends, contest: true });
  }
  return told;
});
</script>

<template>
  <p v-for="note in notes" :key="note.text" class="note" :title="note.at ? exact(note.at) : ''">
    {{ note.text }}
    <RouterLink v-if="note.contest" :to="{ name: 'contests' }">See the contest</RouterLink>
  </p>
</template>

<style scoped>
.note {
  margin: var(--step) 0 0;
  color: var(--waiting);
}
</style>

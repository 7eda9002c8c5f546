<script setup lang="ts">
import { ElButton } from "element-plus";
import { nextTick, watch } from "vue";
import { useRoute } from "vue-router";

import { api, type Operator } from "@/api/client";
import { usePages } from "@/composables/usePages";

import TimesBar from "./TimesBar.vue";

// What the fleet has learned of those who run its customers' DNS.
const route = useRoute();
const { rows, more, loaded, showMore } = usePages<Operator>(
  () => "operators",
  api.operators,
  // Lessons are drawn a moment after what they are drawn from.
  (event) => event.type.startsWith("nomenta.gate."),
);

const ALIASES = { yes: "become addresses", no: "do not work", unknown: "not known yet" };
function aliases({ lessons, form }: Operator): string {
  const known = lessons?.flattens ?? (form ? form.flattens : undefined);
  if (known === undefined) return ALIASES.unknown;
  return known ? ALIASES.yes : ALIASES.no;
}
const share = (part: number, whole: number) => `${Math.round((part / whole) * 100)}%`;

watch(loaded, async () => {
  await nextTick();
  document.getElementById(decodeURIComponent(route.hash.slice(1)))?.scrollIntoView();
});
</script>

<template>
  <section class="page">
    <header>
      <h1>DNS operators</h1>
      <p class="soft">
        Learned from how domains of many accounts have gone. Customers read on their page how long
        it takes where they are, and are warned of what often goes wrong there.
      </p>
    </header>
    <table v-if="rows.length">
      <thead>
        <tr>
          <th scope="col">Operator</th>
          <th scope="col" class="wide">How long it takes</th>
          <th scope="col" class="wide">What goes wrong</th>
          <th scope="col">Its editor</th>
        </tr>
      </thead>
      <tbody>
        <tr
          v-for="row in rows"
          :id="row.operator"
          :key="row.operator"
          :data-operator="row.operator"
        >
          <th scope="row">
            {{ row.operator }}
            <RouterLink :to="{ name: 'roster', query: { operator: row.operator } }">
              {{ row.domains }} {{ row.domains === 1 ? "domain" : "domains" }}
            </RouterLink>
            <span class="soft">learned from {{ row.lessons?.cases }}</span>
          </th>
          <td>
            <TimesBar what="at its servers" :times="row.lessons?.served" />
            <TimesBar what="seen by most" :times="row.lessons?.seen" marked />
          </td>
          <td>
            <ul v-if="row.lessons?.mistakes.length">
              <li v-for="made in row.lessons.mistakes" :key="made.code" :data-code="made.code">
                <RouterLink
                  :to="{ name: 'roster', query: { operator: row.operator, finding: made.code } }"
                  >{{ made.code }}</RouterLink
                >
                <span class="bar" aria-hidden="true"
                  ><span :style="{ width: share(made.cases, row.lessons.cases) }"
                /></span>
                <span class="soft">
                  {{ made.cases }} of {{ row.lessons.cases
                  }}{{ made.is_usual ? ", customers are warned" : "" }}
                </span>
              </li>
            </ul>
            <span v-else class="soft">Nothing that several accounts have done.</span>
          </td>
          <td>
            <dl>
              <dt>lowest TTL</dt>
              <dd>
                {{ row.lessons?.lowest_ttl ? `${row.lessons.lowest_ttl} s` : "not known yet" }}
              </dd>
              <dt>aliases at the apex</dt>
              <dd>{{ aliases(row) }}</dd>
            </dl>
          </td>
        </tr>
      </tbody>
    </table>
    <p v-else-if="loaded" class="soft">
      Nothing is known yet. It takes several domains of several accounts with the same operator.
    </p>
    <p v-if="more"><ElButton @click="showMore">Show more</ElButton></p>
  </section>
</template>

<style scoped>
header p {
  max-width: 70ch;
  margin: var(--step) 0 0;
}

td,
tbody th {
  padding-top: 10px;
  padding-bottom: 10px;
  vertical-align: top;
}

tbody th {
  border-bottom: 1px solid var(--hairline);
  color: var(--ink);
  font-size: 16px;
}

tbody th > * {
  display: block;
  font-size: 14px;
  font-weight: 400;
}

.wide {
  width: 34%;
}

ul,
dl {
  margin: 0;
  padding: 0;
  list-style: none;
}

li {
  display: grid;
  grid-template-columns: 1fr auto;
  gap: 2px var(--step);
  padding: 2px 0 6px;
}

li a {
  font-family: var(--mono);
  font-size: 14px;
}

li .soft,
dl {
  font-size: 14px;
}

.bar {
  grid-column: 1 / -1;
  grid-row: 2;
  height: 5px;
  background: var(--act-wash);
}

.bar span {
  display: block;
  height: 100%;
  background: var(--waiting);
}

dt {
  color: var(--ink-soft);
}

dd {
  margin: 0 0 4px;
}

@media (width <= 900px) {
  thead {
    display: none;
  }

  tr {
    display: grid;
    gap: var(--step);
    padding: var(--step) 0;
  }

  td,
  tbody th {
    padding: 0;
    border-bottom: 0;
  }
}
</style>

import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";

import { api, listing, type Event, type RosterLine, type StageCount } from "@/api/client";
import { usePages } from "@/composables/usePages";

/** What the roster may be filtered and sorted by; it stands in the page's address. */
export const FILTERS = [
  "stage",
  "account",
  "site",
  "ingress",
  "operator",
  "finding",
  "text",
  "older_than",
  "younger_than",
  "sort",
  "descending",
] as const;
export type Filter = (typeof FILTERS)[number];
export type Filters = Partial<Record<Filter, string>>;

/** Kinds of event after which a line may read otherwise. */
const MOVING = /^nomenta\.(domain|gate|finding|claim|account|pair|token)\./;

/** The roster: filtered lines, counts by stage, kept true by live events. */
export function useRoster() {
  const route = useRoute();
  const router = useRouter();
  const counts = ref<StageCount[]>([]);

  const filters = computed<Filters>(() => {
    const given = FILTERS.map((name) => [name, route.query[name]]);
    return Object.fromEntries(given.filter(([, value]) => typeof value === "string" && value));
  });

  async function read(path: string) {
    const [page, numbers] = await Promise.all([
      api.roster(path),
      api.counts({ account: filters.value.account }),
    ]);
    counts.value = numbers.stages.filter((one) => one.stage !== "released");
    return page;
  }

  const pages = usePages<RosterLine>(() => listing("domains", filters.value), read, concerns);

  /** Whether a line that is shown, or one that may come in, is told of. */
  function concerns(event: Event, shown: RosterLine[]): boolean {
    if (!MOVING.test(event.type)) return false;
    if (shown.some((line) => line.host === event.subject)) return true;
    const { text } = filters.value;
    const isAscii = !text || /^[\x20-\x7e]*$/.test(text);
    return !isAscii || !text || (event.subject ?? "").includes(text.toLowerCase());
  }

  /** Changes filters; the address keeps them, so that back leads back. */
  const set = (change: Filters) => router.replace({ query: { ...filters.value, ...change } });

  return { ...pages, counts, filters, set };
}

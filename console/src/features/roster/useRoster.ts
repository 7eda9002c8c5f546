import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";

import { Problem, api, listing, type Event, type RosterLine, type StageCount } from "@/api/client";
import { usePages } from "@/composables/usePages";
import { csv } from "@/lib/csv";
import { download } from "@/lib/download";
import type { Page } from "@/lib/pages";

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

/** Lines that are saved at most; the command line has no such end. */
const MOST_SAVED = 50_000;

const cells = (line: RosterLine) => [
  line.host,
  line.account,
  line.site,
  line.stage,
  line.findings.join(" "),
  line.operator ?? "",
  line.enrolled_at,
];

/** The roster: filtered lines, counts by stage, kept true by live events. */
export function useRoster() {
  const route = useRoute();
  const router = useRouter();
  const counts = ref<StageCount[]>([]);

  const filters = computed<Filters>(() => {
    const given = FILTERS.map((name) => [name, route.query[name]]);
    return Object.fromEntries(given.filter(([, value]) => typeof value === "string" && value));
  });

  /** What is wrong with a filter, by its name. */
  const faults = ref<Record<string, string>>({});

  async function read(path: string, signal: AbortSignal): Promise<Page<RosterLine>> {
    faults.value = {};
    try {
      const [page, numbers] = await Promise.all([
        api.roster(path, signal),
        api.counts({ account: filters.value.account }),
      ]);
      counts.value = numbers.stages.filter((one) => one.stage !== "released");
      return page;
    } catch (problem) {
      if (!(problem instanceof Problem) || problem.passing) throw problem;
      faults.value = problem.fields;
      return { rows: [] };
    }
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

  const saving = ref(false);

  /** Hands out every line that the filters leave, as a table for a spreadsheet. */
  async function save() {
    saving.value = true;
    try {
      const rows = [["host", "account", "site", "stage", "findings", "operator", "enrolled_at"]];
      let next: string | undefined = listing("domains", { ...filters.value, limit: "500" });
      while (next && rows.length <= MOST_SAVED) {
        const page: { rows: RosterLine[]; next?: string } = await api.roster(next);
        rows.push(...page.rows.map(cells));
        next = page.next;
      }
      download("roster.csv", csv(rows));
    } finally {
      saving.value = false;
    }
  }

  return { ...pages, counts, faults, filters, set, saving, save };
}

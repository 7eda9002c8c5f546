import { ref, watch } from "vue";

import type { Filters } from "./useRoster";

/** A filter of the roster that somebody comes back to. */
export interface View {
  name: string;
  filters: Filters;
}

const PLACE = "nomenta.views";
const SHOWN = "nomenta.columns";

/** Columns of the roster that one may do without. */
export const COLUMNS = {
  account: "Account",
  site: "Site",
  gates: "Gates",
  stage: "Stage",
  findings: "Findings",
  operator: "DNS operator",
  enrolled: "Taken in",
  moved: "Unchanged",
} as const;
export type Column = keyof typeof COLUMNS;
const USUAL: Column[] = ["account", "gates", "stage", "findings", "moved"];

function kept<T>(place: string, otherwise: T): T {
  try {
    return (JSON.parse(localStorage.getItem(place) ?? "null") as T | null) ?? otherwise;
  } catch {
    return otherwise;
  }
}

/** Saved views and chosen columns, kept by this browser. */
export function useViews() {
  const views = ref<View[]>(kept<View[]>(PLACE, []));
  const columns = ref<Column[]>(kept<Column[]>(SHOWN, USUAL));
  watch(views, (views) => localStorage.setItem(PLACE, JSON.stringify(views)), { deep: true });
  watch(columns, (columns) => localStorage.setItem(SHOWN, JSON.stringify(columns)));

  function save(name: string, filters: Filters) {
    views.value = [...views.value.filter((view) => view.name !== name), { name, filters }];
  }
  const drop = (name: string) => (views.value = views.value.filter((view) => view.name !== name));

  return { views, columns, save, drop };
}

import { ref } from "vue";

import {
  api,
  Problem,
  type Claim,
  type DomainDetail,
  type Event,
  type RosterLine,
  listing,
} from "@/api/client";
import { useAwaited } from "@/composables/useAwaited";
import { useLive } from "@/composables/useLive";

/** One domain and its history, kept true by live events. */
export function useDomain(claim: Claim) {
  const detail = ref<DomainDetail | null>(null);
  const history = ref<Event[]>([]);
  const error = ref("");
  /** The claims of the name, where it has to be said whose is meant. */
  const claims = ref<RosterLine[]>([]);

  async function reload() {
    try {
      const after = history.value.at(-1)?.sequence ?? 0;
      const [read, news] = await Promise.all([api.domain(claim), api.history(claim, after)]);
      detail.value = read;
      history.value.push(...news.filter((e) => e.sequence > (history.value.at(-1)?.sequence ?? 0)));
      error.value = "";
    } catch (problem) {
      if (!(problem instanceof Problem) || problem.passing) throw problem;
      error.value = problem.message;
      claims.value = problem.status === 409 ? await claimsOf(claim.host) : [];
    }
  }

  /** Asks for a look, and shows what it found even if nothing changed. */
  async function look() {
    const before = detail.value?.looked_at;
    await api.look(claim);
    for (let tries = 0; tries < 40 && detail.value?.looked_at === before; tries++) {
      await new Promise((resolve) => window.setTimeout(resolve, 250));
      await reload();
    }
  }

  // While somebody waits for it, it is looked at every few seconds.
  useAwaited(() => api.wait(claim));

  useLive((event) => event.subject === claim.host, reload);
  return { detail, history, error, claims, look, reload };
}

async function claimsOf(host: string) {
  const { rows } = await api.roster(listing("domains", { text: host }));
  return rows.filter((line) => line.host === host);
}

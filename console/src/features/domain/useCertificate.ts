import { ref } from "vue";

import { api, type CertificateView, type Check, type Claim, Problem } from "@/api/client";
import { useLive } from "@/composables/useLive";

/** A domain's certificate and its latest order, kept true by live events. */
export function useCertificate(claim: Claim) {
  const view = ref<CertificateView | null>(null);
  const checks = ref<Check[] | null>(null);
  const error = ref("");
  const busy = ref("");

  async function reload() {
    try {
      view.value = await api.certificate(claim);
      error.value = "";
    } catch (problem) {
      if (!(problem instanceof Problem) || problem.passing) throw problem;
      error.value = problem.message;
    }
  }

  /** Does one thing, saying which while it lasts and what went wrong after. */
  async function attempt(what: string, act: () => Promise<unknown>): Promise<boolean> {
    busy.value = what;
    try {
      await act();
      error.value = "";
      return true;
    } catch (problem) {
      if (!(problem instanceof Problem)) throw problem;
      error.value = problem.message;
      return false;
    } finally {
      busy.value = "";
    }
  }

  const preflight = () =>
    attempt("preflight", async () => (checks.value = await api.preflight(claim)));
  const renew = () => attempt("renew", () => api.renew(claim).then(reload));
  const revoke = (reason: string) =>
    attempt("revoke", () => api.revoke(claim, reason).then(reload));

  useLive((event) => event.subject === claim.host, reload);
  return { view, checks, error, busy, reload, preflight, renew, revoke };
}

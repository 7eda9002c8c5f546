import { ref, watch } from "vue";

import { api, type CertificateDay, type FleetCertificate } from "@/api/client";
import { useLive } from "@/composables/useLive";

/** The fleet's certificates, first those that run out first, a page at a time. */
export function useFleet() {
  const rows = ref<FleetCertificate[]>([]);
  const days = ref<CertificateDay[]>([]);
  const within = ref("all");
  const next = ref<string>();
  const loaded = ref(false);

  async function reload() {
    const path =
      within.value === "all" ? "certificates" : `certificates?within_days=${within.value}`;
    const [page, counts] = await Promise.all([api.certificates(path), api.certificateDays()]);
    rows.value = page.rows;
    next.value = page.next;
    days.value = counts;
    loaded.value = true;
  }

  async function showMore() {
    if (!next.value) return;
    const page = await api.certificates(next.value);
    rows.value.push(...page.rows);
    next.value = page.next;
  }

  watch(within, reload);
  useLive((event) => event.type.startsWith("nomenta.certificate."), reload);
  return { rows, days, within, next, loaded, showMore };
}

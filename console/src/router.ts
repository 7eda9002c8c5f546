import type { RouteComponent } from "vue-router";
import { createRouter, createWebHistory } from "vue-router";

import places from "@/places.json";
import { useSession } from "@/stores/session";

// Each page is a file of its own, fetched when somebody goes there.
const pages: Record<keyof typeof places, () => Promise<RouteComponent>> = {
  roster: () => import("@/features/roster/RosterPage.vue"),
  domain: () => import("@/features/domain/DomainPage.vue"),
  accounts: () => import("@/features/accounts/AccountsPage.vue"),
  account: () => import("@/features/accounts/AccountPage.vue"),
  intake: () => import("@/features/intake/IntakePage.vue"),
  jobs: () => import("@/features/jobs/JobsPage.vue"),
  job: () => import("@/features/jobs/JobPage.vue"),
  contests: () => import("@/features/contests/ContestsPage.vue"),
  certificates: () => import("@/features/fleet/CertificatesPage.vue"),
  operators: () => import("@/features/operators/OperatorsPage.vue"),
  notices: () => import("@/features/notices/NoticesPage.vue"),
  access: () => import("@/features/access/AccessPage.vue"),
  "sign-in": () => import("@/features/sign-in/SignInPage.vue"),
};

// The service knows these places too: any other path is a problem, not a page.
export const router = createRouter({
  history: createWebHistory(),
  routes: [
    ...Object.entries(places).map(([name, path]) => ({
      name,
      path,
      component: pages[name as keyof typeof places],
      props: path.includes(":"),
    })),
    { path: "/:rest(.*)*", redirect: { name: "roster" } },
  ],
});

router.beforeEach(async (to) => {
  const session = useSession();
  await session.restore();
  if (!session.who && to.name !== "sign-in") {
    return { name: "sign-in", query: { next: to.fullPath } };
  }
  return true;
});

import type { Component } from "vue";
import { createRouter, createWebHistory } from "vue-router";

import AccountPage from "@/features/accounts/AccountPage.vue";
import AccountsPage from "@/features/accounts/AccountsPage.vue";
import ContestsPage from "@/features/contests/ContestsPage.vue";
import DomainPage from "@/features/domain/DomainPage.vue";
import CertificatesPage from "@/features/fleet/CertificatesPage.vue";
import RosterPage from "@/features/roster/RosterPage.vue";
import SignInPage from "@/features/sign-in/SignInPage.vue";
import places from "@/places.json";
import { useSession } from "@/stores/session";

const pages: Record<keyof typeof places, Component> = {
  roster: RosterPage,
  domain: DomainPage,
  accounts: AccountsPage,
  account: AccountPage,
  contests: ContestsPage,
  certificates: CertificatesPage,
  "sign-in": SignInPage,
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

import { createRouter, createWebHistory } from "vue-router";

import AccountPage from "@/features/accounts/AccountPage.vue";
import AccountsPage from "@/features/accounts/AccountsPage.vue";
import ContestsPage from "@/features/contests/ContestsPage.vue";
import DomainPage from "@/features/domain/DomainPage.vue";
import CertificatesPage from "@/features/fleet/CertificatesPage.vue";
import RosterPage from "@/features/roster/RosterPage.vue";
import SignInPage from "@/features/sign-in/SignInPage.vue";
import { useSession } from "@/stores/session";

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: "/", name: "roster", component: RosterPage },
    { path: "/domains/:host", name: "domain", component: DomainPage, props: true },
    { path: "/accounts", name: "accounts", component: AccountsPage },
    { path: "/accounts/:name", name: "account", component: AccountPage, props: true },
    { path: "/contests", name: "contests", component: ContestsPage },
    { path: "/certificates", name: "certificates", component: CertificatesPage },
    { path: "/sign-in", name: "sign-in", component: SignInPage },
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

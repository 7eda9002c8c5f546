<script setup lang="ts">
import { ElButton } from "element-plus";
import { useRouter } from "vue-router";

import { useBehind } from "@/composables/useBehind";
import { useTheme } from "@/composables/useTheme";
import { useSession } from "@/stores/session";

const session = useSession();
const router = useRouter();
const { dark, toggle } = useTheme();
const behind = useBehind();

async function leave() {
  await session.signOut();
  await router.push({ name: "sign-in" });
}
</script>

<template>
  <header v-if="session.who" class="bar">
    <RouterLink :to="{ name: 'roster' }" class="brand">Nomenta</RouterLink>
    <nav>
      <RouterLink :to="{ name: 'roster' }">Roster</RouterLink>
      <RouterLink :to="{ name: 'accounts' }">Accounts</RouterLink>
      <RouterLink v-if="session.mayOperate" :to="{ name: 'intake' }">Intake</RouterLink>
      <RouterLink :to="{ name: 'jobs' }">Jobs</RouterLink>
      <RouterLink v-if="!session.isNarrow" :to="{ name: 'contests' }">Contests</RouterLink>
      <RouterLink :to="{ name: 'certificates' }">Certificates</RouterLink>
      <RouterLink :to="{ name: 'operators' }">DNS operators</RouterLink>
      <RouterLink :to="{ name: 'notices' }">Notices</RouterLink>
      <RouterLink v-if="session.isAdmin" :to="{ name: 'access' }">Access</RouterLink>
    </nav>
    <span class="soft">{{ session.words }}</span>
    <ElButton text @click="toggle">{{ dark ? "Light" : "Dark" }}</ElButton>
    <ElButton text @click="leave">Sign out</ElButton>
  </header>
  <p v-if="session.who && behind" class="behind" role="status">
    What is shown may be old, and is asked for again by itself. {{ behind }}
  </p>
  <main><RouterView :key="$route.path + ($route.query.account ?? '')" /></main>
</template>

<style scoped>
.bar {
  display: flex;
  flex-wrap: wrap;
  gap: var(--step);
  align-items: center;
  max-width: var(--page);
  margin: 0 auto;
  padding: var(--step) calc(var(--step) * 3);
  border-bottom: 1px solid var(--hairline);
}

.behind {
  max-width: var(--page);
  margin: 0 auto;
  padding: var(--step) calc(var(--step) * 3);
  color: var(--blocked);
}

.brand {
  color: var(--ink);
  font-size: 20px;
  font-weight: 600;
  text-decoration: none;
}

nav {
  display: flex;
  flex-wrap: wrap;
  gap: 0 calc(var(--step) * 2);
  margin-right: auto;
  margin-left: calc(var(--step) * 2);
}

nav a {
  padding: 2px 0;
  color: var(--ink-soft);
  text-decoration: none;
}

nav .router-link-exact-active {
  border-bottom: 2px solid var(--act);
  color: var(--ink);
}
</style>

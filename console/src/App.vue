<script setup lang="ts">
import { ElButton } from "element-plus";
import { useRouter } from "vue-router";

import { useTheme } from "@/composables/useTheme";
import { useSession } from "@/stores/session";

const session = useSession();
const router = useRouter();
const { dark, toggle } = useTheme();

async function leave() {
  await session.signOut();
  await router.push({ name: "sign-in" });
}
</script>

<template>
  <header v-if="session.who" class="bar">
    <RouterLink :to="{ name: 'roster' }" class="brand">Nomenta</RouterLink>
    <span class="soft">{{ session.who.name }}, {{ session.who.role }}</span>
    <ElButton text @click="toggle">{{ dark ? "Light" : "Dark" }}</ElButton>
    <ElButton text @click="leave">Sign out</ElButton>
  </header>
  <main><RouterView :key="$route.path" /></main>
</template>

<style scoped>
.bar {
  display: flex;
  gap: var(--step);
  align-items: center;
  max-width: var(--page);
  margin: 0 auto;
  padding: var(--step) calc(var(--step) * 3);
  border-bottom: 1px solid var(--hairline);
}

.brand {
  margin-right: auto;
  color: var(--ink);
  font-size: 20px;
  font-weight: 600;
  text-decoration: none;
}
</style>

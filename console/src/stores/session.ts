import { defineStore } from "pinia";
import { computed, ref } from "vue";

import { api, type Who } from "@/api/client";

export const useSession = defineStore("session", () => {
  const who = ref<Who | null>(null);
  let asked = false;

  /** Asks once whether a session from an earlier visit is still good. */
  async function restore() {
    if (asked) return;
    asked = true;
    who.value = await api.who().catch(() => null);
  }

  async function signIn(key: string) {
    who.value = await api.signIn(key);
  }

  async function signOut() {
    await api.signOut();
    who.value = null;
  }

  /** Whether the key opens some accounts alone. */
  const isNarrow = computed(() => (who.value?.accounts ?? []).length > 0);
  const isAdmin = computed(() => who.value?.role === "admin");
  const mayOperate = computed(() => isAdmin.value || who.value?.role === "operator");
  /** Whether everything about every account may be changed. */
  const mayAdminister = computed(() => isAdmin.value && !isNarrow.value);

  /** Who is signed in, in words. */
  const words = computed(() => {
    if (!who.value) return "";
    const { name, role, accounts = [] } = who.value;
    const whose = accounts.length > 2 ? `${accounts.length} accounts` : accounts.join(" and ");
    return `${name}, ${role}${whose ? ` of ${whose}` : ""}`;
  });

  return { who, isNarrow, isAdmin, mayOperate, mayAdminister, words, restore, signIn, signOut };
});

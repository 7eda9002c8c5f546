import { defineStore } from "pinia";
import { ref } from "vue";

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

  return { who, restore, signIn, signOut };
});

import { ref, watchEffect } from "vue";

const KEY = "nomenta-theme";
const system = window.matchMedia("(prefers-color-scheme: dark)").matches;
const dark = ref((localStorage.getItem(KEY) ?? (system ? "dark" : "light")) === "dark");

watchEffect(() => document.documentElement.classList.toggle("dark", dark.value));

/** The theme: the system's until one is chosen. */
export function useTheme() {
  function toggle() {
    dark.value = !dark.value;
    localStorage.setItem(KEY, dark.value ? "dark" : "light");
  }
  return { dark, toggle };
}

import { onUnmounted, ref } from "vue";

/** The time, ticking, so that spans on screen stay true. */
export function useNow() {
  const now = ref(Date.now());
  const timer = window.setInterval(() => (now.value = Date.now()), 1000);
  onUnmounted(() => window.clearInterval(timer));
  return now;
}

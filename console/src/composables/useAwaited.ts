import { onUnmounted } from "vue";

/** How often it is said that somebody waits, in milliseconds. */
const SAID_EVERY = 30_000;

/** Runs `say` now, and again and again for as long as the page is open and seen. */
export function useAwaited(say: () => Promise<void>) {
  const saying = () => {
    // Where it cannot be said, looks come a little later.
    if (!document.hidden) void say().catch(() => undefined);
  };
  saying();
  const timer = window.setInterval(saying, SAID_EVERY);
  document.addEventListener("visibilitychange", saying);
  onUnmounted(() => {
    window.clearInterval(timer);
    document.removeEventListener("visibilitychange", saying);
  });
}

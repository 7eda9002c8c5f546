import { onUnmounted } from "vue";

import { listen, type Event } from "@/api/client";

/** How soon after an event a page reloads, in milliseconds. */
const SOON = 120;
/** The least time between two reloads. */
const APART = 2000;

/**
 * Runs `reload` now, soon after events that `concerns` picks, many events at once
 * counting as one and reloads keeping apart; and after the connection was broken.
 */
export function useLive(concerns: (event: Event) => boolean, reload: () => Promise<void>) {
  let timer: number | undefined;
  let last = -APART;

  const soon = () => {
    const wait = Math.max(SOON, last + APART - performance.now());
    timer ??= window.setTimeout(async () => {
      timer = undefined;
      last = performance.now();
      await reload();
    }, wait);
  };

  // The connection may take its time; what it would have told is read anyway.
  soon();
  const stop = listen((event) => concerns(event) && soon(), soon);
  onUnmounted(() => {
    stop();
    window.clearTimeout(timer);
  });
}

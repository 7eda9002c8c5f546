import { onUnmounted } from "vue";

import { listen, type Event } from "@/api/client";

/**
 * Runs `reload` now, soon after events that `concerns` picks, many events at once
 * counting as one; and after the connection was broken.
 */
export function useLive(concerns: (event: Event) => boolean, reload: () => Promise<void>) {
  let timer: number | undefined;
  const soon = () => {
    timer ??= window.setTimeout(async () => {
      timer = undefined;
      await reload();
    }, 120);
  };
  // The connection may take its time; what it would have told is read anyway.
  soon();
  const stop = listen((event) => concerns(event) && soon(), soon);
  onUnmounted(() => {
    stop();
    window.clearTimeout(timer);
  });
}

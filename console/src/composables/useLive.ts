import { onUnmounted } from "vue";

import { listen, type Event } from "@/api/client";

import { brought } from "./useBehind";

/** How soon after an event a page reloads, in milliseconds. */
const SOON = 120;
/** The least time between two reloads. */
const APART = 2000;

/**
 * Runs `reload` now, soon after events that `concerns` picks, many events at once
 * counting as one and reloads keeping apart; after the connection was broken; and again
 * where the service could not answer. What is returned runs it at once.
 */
export function useLive(concerns: (event: Event) => boolean, reload: () => Promise<void>) {
  let timer: number | undefined;
  let last = -APART;
  let running = 0;
  let isBehind = false;
  let gone = false;

  const soon = () => {
    const wait = Math.max(SOON, last + APART - performance.now());
    timer ??= window.setTimeout(async () => {
      timer = undefined;
      // A reload that takes its time is not given up for the next one: no page would ever come.
      if (running > 0) isBehind = true;
      else await now();
    }, wait);
  };

  const now = async () => {
    last = performance.now();
    running += 1;
    try {
      if (!(await brought(reload))) isBehind = true;
    } finally {
      running -= 1;
      if (isBehind && running === 0 && !gone) {
        isBehind = false;
        soon();
      }
    }
  };

  // The connection may take its time; what it would have told is read anyway.
  soon();
  const stop = listen((event) => concerns(event) && soon(), soon);
  onUnmounted(() => {
    gone = true;
    stop();
    window.clearTimeout(timer);
  });
  return now;
}

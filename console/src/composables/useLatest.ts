import { onUnmounted } from "vue";

/**
 * Runs `ask` for what was asked for last: what was asked before is called off and gives nothing,
 * and so does all of it once the page is left.
 */
export function useLatest() {
  let asking = new AbortController();
  onUnmounted(() => asking.abort());

  return async function latest<T>(
    ask: (signal: AbortSignal) => Promise<T>,
  ): Promise<T | undefined> {
    asking.abort();
    asking = new AbortController();
    const { signal } = asking;
    try {
      const found = await ask(signal);
      return signal.aborted ? undefined : found;
    } catch (problem) {
      if (signal.aborted) return undefined;
      throw problem;
    }
  };
}

import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { nextTick, ref } from "vue";

import { usePages } from "./usePages";

const { unmounts } = vi.hoisted(() => ({ unmounts: [] as (() => void)[] }));

vi.mock("@/api/client", () => ({ Problem: class extends Error {}, listen: () => () => undefined }));
vi.mock("vue", async (vue) => ({
  ...(await vue<object>()),
  onUnmounted: (left: () => void) => unmounts.push(left),
}));

const leave = () => unmounts.splice(0).forEach((left) => left());

beforeEach(() => {
  vi.useFakeTimers();
  vi.stubGlobal("window", globalThis);
});
afterEach(() => {
  leave();
  vi.unstubAllGlobals();
  vi.useRealTimers();
});

/** A listing by what is typed; a text of `never` is one that the service never answers. */
function typed() {
  const text = ref("");
  const asked: { path: string; signal: AbortSignal }[] = [];
  const read = (path: string, signal: AbortSignal) => {
    asked.push({ path, signal });
    return new Promise<{ rows: string[] }>((resolve, reject) => {
      signal.addEventListener("abort", () => reject(signal.reason as Error));
      if (!path.startsWith("of/never")) resolve({ rows: [path] });
    });
  };
  const pages = usePages<string>(
    () => `of/${text.value}`,
    read,
    () => false,
  );
  const type = async (letters: string) => {
    for (const letter of letters) {
      text.value += letter;
      await nextTick();
      await vi.advanceTimersByTimeAsync(20);
    }
  };
  return { asked, pages, text, type };
}

test("what is typed is asked for once it is typed, and not letter by letter", async () => {
  const { asked, pages, type } = typed();
  await vi.advanceTimersByTimeAsync(500);
  await type("harbour");
  await vi.advanceTimersByTimeAsync(500);
  expect(asked.map(({ path }) => path)).toEqual(["of/", "of/harbour"]);
  expect(pages.rows.value).toEqual(["of/harbour"]);
});

test("what was never answered is called off, and keeps nothing else from being read", async () => {
  const { asked, pages, text, type } = typed();
  await type("never");
  await vi.advanceTimersByTimeAsync(500);
  expect(pages.loaded.value).toBe(false);

  text.value = "harbour";
  await nextTick();
  await vi.advanceTimersByTimeAsync(500);
  expect(asked[0]?.signal.aborted).toBe(true);
  expect(pages.rows.value).toEqual(["of/harbour"]);

  text.value = "never again";
  await nextTick();
  await vi.advanceTimersByTimeAsync(500);
  leave();
  expect(asked.at(-1)?.signal.aborted).toBe(true);
});

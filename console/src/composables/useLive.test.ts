import { afterEach, beforeEach, expect, test, vi } from "vitest";

import type { Event } from "@/api/client";

import { useLive } from "./useLive";

const { listeners, unmounts } = vi.hoisted(() => ({
  listeners: [] as ((event: object) => void)[],
  unmounts: [] as (() => void)[],
}));

vi.mock("@/api/client", () => ({
  Problem: class Problem extends Error {
    passing = true;
  },
  listen: (told: (event: object) => void) => {
    listeners.push(told);
    return () => listeners.splice(listeners.indexOf(told), 1);
  },
}));
vi.mock("vue", async (vue) => ({
  ...(await vue<object>()),
  onUnmounted: (left: () => void) => unmounts.push(left),
}));

const happens = () => listeners.forEach((told) => told({} as Event));

beforeEach(() => {
  vi.useFakeTimers();
  vi.stubGlobal("window", globalThis);
});
afterEach(() => {
  unmounts.splice(0).forEach((left) => left());
  vi.unstubAllGlobals();
  vi.useRealTimers();
});

test("many events at once are one reload, and reloads keep apart", async () => {
  const reload = vi.fn(async () => undefined);
  useLive(() => true, reload);
  await vi.advanceTimersByTimeAsync(200);
  expect(reload).toHaveBeenCalledTimes(1);

  for (let each = 0; each < 50; each += 1) happens();
  await vi.advanceTimersByTimeAsync(1000);
  expect(reload).toHaveBeenCalledTimes(1);
  await vi.advanceTimersByTimeAsync(1000);
  expect(reload).toHaveBeenCalledTimes(2);
});

test("a slow reload is waited for, and what happened meanwhile is read after it", async () => {
  const done: (() => void)[] = [];
  const reload = vi.fn(() => new Promise<void>((resolve) => done.push(resolve)));
  useLive(() => true, reload);
  await vi.advanceTimersByTimeAsync(200);

  for (let second = 0; second < 10; second += 1) {
    happens();
    await vi.advanceTimersByTimeAsync(1000);
  }
  expect(reload).toHaveBeenCalledTimes(1);

  done.shift()?.();
  await vi.advanceTimersByTimeAsync(2000);
  expect(reload).toHaveBeenCalledTimes(2);
});

test("what the service could not answer is read again, until the page is left", async () => {
  const { Problem } = await import("@/api/client");
  const reload = vi.fn(async () => {
    throw new (Problem as unknown as new () => Error)();
  });
  useLive(() => true, reload);
  await vi.advanceTimersByTimeAsync(200);
  await vi.advanceTimersByTimeAsync(2000);
  expect(reload).toHaveBeenCalledTimes(2);

  unmounts.splice(0).forEach((left) => left());
  await vi.advanceTimersByTimeAsync(60_000);
  expect(reload).toHaveBeenCalledTimes(2);
  expect(listeners).toEqual([]);
});

import { afterEach, expect, test, vi } from "vitest";

import { api, Problem } from "./client";

afterEach(() => {
  vi.unstubAllGlobals();
  vi.restoreAllMocks();
});

/** What a call of these is refused with. */
const refusal = async (call: Promise<unknown>) => call.catch((problem: unknown) => problem);

test("an answer that does not come, or breaks off, is asked for again", async () => {
  const late = new AbortController();
  vi.spyOn(AbortSignal, "timeout").mockReturnValue(late.signal);
  vi.stubGlobal(
    "fetch",
    (_: string, { signal }: RequestInit) =>
      new Promise((_, reject) =>
        signal?.addEventListener("abort", () => reject(signal.reason as Error)),
      ),
  );
  const silent = refusal(api.account("harbour"));
  late.abort();
  expect(await silent).toMatchObject({ status: 0, passing: true });
  expect(((await silent) as Problem).message).toContain("does not answer");

  vi.restoreAllMocks();
  vi.stubGlobal("fetch", async () => ({
    headers: new Headers(),
    text: () => Promise.reject(new TypeError("broken off")),
  }));
  expect(await refusal(api.account("harbour"))).toBeInstanceOf(Problem);
});

test("a call that is called off is no failure of the service", async () => {
  vi.stubGlobal("fetch", (_: string, { signal }: RequestInit) => {
    signal?.throwIfAborted();
    throw new TypeError("not called off");
  });
  const left = new AbortController();
  left.abort();
  expect(await refusal(api.accounts("accounts", left.signal))).not.toBeInstanceOf(Problem);
});

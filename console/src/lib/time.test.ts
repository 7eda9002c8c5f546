import { expect, test } from "vitest";

import { since, span, until } from "./time";

test.each([
  [-5000, "0 s"],
  [12_000, "12 s"],
  [150_000, "3 min"],
  [3_600_000, "60 min"],
  [10_800_000, "3 h"],
  [400_000_000, "4 days"],
])("%i milliseconds are said as people say them", (milliseconds, want) => {
  expect(span(milliseconds)).toBe(want);
});

test("a moment is told from now", () => {
  const now = Date.parse("2026-11-26T08:00:00Z");
  expect(since("2026-11-26T07:59:00Z", now)).toBe("for 60 s");
  expect(until("2026-11-26T08:00:12Z", now)).toBe("in 12 s");
  expect(until("2026-11-26T07:00:00Z", now)).toBe("now");
});

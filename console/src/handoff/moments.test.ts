import { expect, test } from "vitest";

import { localized } from "./moments";

test("today is told by the hour alone, another day with its date", () => {
  const at = new Date(2026, 10, 27, 14, 20);
  const later = new Date(2026, 10, 27, 18, 0);
  expect(localized(at.toISOString(), "de", later)).toBe("14:20");
  expect(localized(at.toISOString(), "de", new Date(2026, 10, 28, 1, 0))).toBe(
    "27. November um 14:20",
  );
});

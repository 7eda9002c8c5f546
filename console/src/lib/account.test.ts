import { describe, expect, it } from "vitest";

import type { Account } from "@/api/client";
import { used } from "./account";

describe("used", () => {
  it("tells none granted from no limit", () => {
    const of = (granted: number | null) => used({ allowance: { granted, used: 3 } } as Account);
    expect([of(null), of(0), of(5)]).toEqual(["3", "3 of 0", "3 of 5"]);
  });
});

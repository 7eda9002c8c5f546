import { expect, test } from "vitest";

import type { Line } from "@/api/client";

import { choices, editorType } from "./sheet";

const line = (purpose: Line["purpose"], way: Line["way"], value: string): Line => ({
  purpose,
  way,
  rtype: way === "cname" ? "CNAME" : "A",
  owner: "www.onswick.example",
  host_field: "www",
  value,
  value_field: value,
  ttl: 300,
  required: false,
});

test("lines are told apart by purpose and choice, in the order of the sheet", () => {
  const lines = [
    line("ownership", "challenge-txt", "t"),
    line("routing", "cname", "edge.quaymark.example"),
    line("routing", "addresses", "127.77.0.10"),
    line("routing", "addresses", "127.77.0.11"),
  ];
  const told = choices(lines).map(({ purpose, choices }) => [
    purpose,
    choices.map(({ choice, lines }) => [choice, lines.length]),
  ]);
  expect(told).toEqual([
    ["ownership", [["challenge-txt", 1]]],
    [
      "routing",
      [
        ["cname", 1],
        ["addresses", 2],
      ],
    ],
  ]);
});

test("an alias has the type that its editor shows", () => {
  expect(editorType(line("routing", "alias", "x"))).toBe("ALIAS");
  expect(editorType(line("routing", "cname", "x"))).toBe("CNAME");
});

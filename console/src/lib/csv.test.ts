import { expect, test } from "vitest";

import { csv, field } from "./csv";

test("what a spreadsheet would run is kept from it", () => {
  for (const text of ["=1+1", " =1", "\t@x", "-2+3"]) expect(field(text)).toBe(`'${text}`);
  expect(field("\r=1")).toBe(`"'\r=1"`);
  expect(field("a-b")).toBe("a-b");
});

test("fields with marks are quoted", () => {
  expect(
    csv([
      ["a,b", 'say "hi"'],
      ["", "c"],
    ]),
  ).toBe('"a,b","say ""hi"""\r\n,c\r\n');
});

import { expect, test } from "vitest";
import { bitsLeft, counted } from "./format";

test("what is left of a truncated address is a prefix", () => {
  expect(
    [
      "198.18.3.0",
      "198.18.3.40",
      "2001:db8:5::",
      "2001:db8::",
      "2001:db8:5::1",
      "2002:c612:300::",
      "2002:c612:345::",
      "2001:db8:5:1::",
    ].map(bitsLeft),
  ).toEqual(["/24", "", "/48", "/48", "", "/40", "/48", ""]);
});

test("counts of one are in the singular", () => {
  expect([
    counted(0, "visit"),
    counted(1, "visit"),
    counted(1234, "visit"),
    counted(1, "entry", "entries"),
    counted(2, "entry", "entries"),
  ]).toEqual(["0 visits", "1 visit", "1,234 visits", "1 entry", "2 entries"]);
});

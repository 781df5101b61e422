import { expect, test } from "vitest";
import { folded, pretty, shortName, toggled, usual } from "./facts";

test("ticking keeps the order of the facts", () => {
  expect(toggled(usual, "location.region_code")).toEqual([
    "location.country_code",
    "location.region_code",
    "location.names.city",
    "locale.language",
    "money.currency_code",
  ]);
  expect(toggled(usual, "location.names.city")).not.toContain("location.city");
  expect(toggled(toggled(usual, "variants"), "variants")).toEqual(usual);
});

test("names without their part of the card", () => {
  expect(shortName("location.city")).toBe("city");
  expect(shortName("variants")).toBe("variants");
});

test("JSON is written long and short, and what is none stays", () => {
  expect(pretty('{"a":1}')).toBe('{\n  "a": 1\n}');
  expect(folded('{"labels":[],"edition":{"name":"2026-11-14-b04c6e1d"}}')).toBe(
    '{"labels": [],\n "edition": {"name":"2…}',
  );
  expect(pretty("no JSON")).toBe("no JSON");
  expect(folded("no JSON")).toBe("no JSON");
});

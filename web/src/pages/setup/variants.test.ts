import { expect, test } from "vitest";
import { sentence, withList } from "./variants";

test("a rule reads as a sentence", () => {
  expect(sentence({ countries: ["PT", "BR"], languages: ["pt"] })).toBe(
    "for visitors in PT or BR, reading pt",
  );
  expect(sentence({ areas: ["Iberia"], labels: [] })).toBe("for visitors within Iberia");
  expect(sentence({})).toBe("for everybody");
});

test("an empty list leaves the condition out", () => {
  expect(withList({ countries: ["PT"] }, "countries", [])).toEqual({});
  expect(withList({ countries: ["PT"] }, "groups", ["eu"])).toEqual({ countries: ["PT"], groups: ["eu"] });
});

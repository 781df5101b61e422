import { describe, expect, it } from "vitest";
import { cells, csvCell, how, planOf, reasonKind } from "./lines";

describe("planOf", () => {
  it("finds the column of addresses under a head", () => {
    const plan = planOf(["name,seen from,when", "Ana,198.18.3.40,today", "Bo,2001:db8::1,today", "Cy,,"]);
    expect(plan).toEqual({ separator: ",", head: ["name", "seen from", "when"], column: 1 });
    expect(how(plan)).toContain("“seen from”");
  });
  it("reads plain lines", () => {
    expect(planOf(["198.18.3.40", "3323069696", "40.3.18.198.in-addr.arpa"])).toEqual({
      separator: "",
      head: [],
      column: 0,
    });
  });
  it("takes a first line with an address for data", () => {
    expect(planOf(["1\t198.18.3.40", "2\t198.18.3.41"]).head).toEqual([]);
  });
  it("counts no separator within quotes", () => {
    expect(cells('"Lisbon, ""old"" town", "198.18.3.40" ', ",")).toEqual([
      'Lisbon, "old" town',
      "198.18.3.40",
    ]);
    const plan = planOf(["where,from", '"Lisbon, Portugal",198.18.3.40', '"Oslo, Norway",198.18.3.41']);
    expect(plan.column).toBe(1);
  });
});

it("gathers reasons that differ only in the text", () => {
  expect(reasonKind('"300.1.1.1": a part is more than 255')).toBe("a part is more than 255");
});

it.each([
  "=1+1",
  "+1+1",
  "-1-1",
  "@SUM(1)",
  "＝1",
  "＋1",
  "－1",
  "＠x",
  "\t=1",
  "+",
  "-",
  "+1|cmd",
  "--1",
  "+1e5",
])("neutralises the formula %j", (formula) => expect(csvCell(formula)).toMatch(/^"?'/));

it("leaves numbers, offsets and plain texts, and quotes what must be", () => {
  for (const plain of ["-9.1", "+05:45", "-12", "Lisbon", "198.18.3.40", ""])
    expect(csvCell(plain)).toBe(plain);
  expect(csvCell(-9.1)).toBe("-9.1");
  expect(csvCell(null)).toBe("");
  expect(csvCell('a,"b')).toBe('"a,""b"');
  expect(csvCell("a\rb")).toBe('"a\rb"');
});

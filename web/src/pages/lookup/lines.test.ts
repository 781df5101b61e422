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
  it("unquotes", () => {
    expect(cells('"a b","198.18.3.40"', ",")).toEqual(["a b", "198.18.3.40"]);
  });
});

it("gathers reasons that differ only in the text", () => {
  expect(reasonKind('"300.1.1.1": a part is more than 255')).toBe("a part is more than 255");
});

it("neutralises formulas", () => {
  expect(csvCell("=1+1")).toBe("'=1+1");
  expect(csvCell(-9.1)).toBe("-9.1");
  expect(csvCell('a,"b')).toBe('"a,""b"');
});

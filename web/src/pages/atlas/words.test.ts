// @vitest-environment jsdom
import dayjs from "dayjs";
import { describe, expect, it } from "vitest";
import type { Description } from "../../api/client";
import { linesFor } from "./DescribeModal";
import { age, amount, dated, percent, spotName } from "./words";

describe("words of the atlas", () => {
  it("dates an edition by its name", () => {
    expect(dated("2026-11-14-ba46d0f2")).toBe("14 November");
    expect(dated("undated-0000")).toBe("undated-0000");
  });
  it("says how old a source is", () => {
    expect(age(null)).toBe("not said");
    expect(age(dayjs().format("YYYY-MM-DD"))).toBe("today");
    expect(age(dayjs().subtract(17, "day").format("YYYY-MM-DD"))).toBe("17 days");
  });
  it("writes what is nearly nothing not as nothing", () => {
    expect(percent(0.001)).toBe("< 1 %");
    expect(percent(0)).toBe("0 %");
    expect(percent(null)).toBe("–");
    expect(amount(3_080_000_000)).toBe("3.08 billion");
    expect(amount(2816)).toBe("2,816");
  });
  it("names the finest thing", () => {
    expect(spotName({ city: "", region_code: "", country_code: "PT" })).toBe("Portugal");
    expect(spotName({ city: "Faro", region_code: "PT-08", country_code: "PT" })).toBe("Faro");
    expect(spotName({ city: "", region_code: "", country_code: "" })).toBe("location unknown");
  });
});

describe("linesFor", () => {
  const base: Description = {
    format: "csv",
    reason: "",
    head: true,
    rows: 1,
    columns: [],
    mapping: {},
    sample: [],
    advice: [],
  };
  it("maps only the columns that have other names", () => {
    const lines = linesFor("a.csv", base, { net: "range", city: "city", note: "" });
    expect(lines).toContain('columns: { range: "net" }');
    expect(lines).toContain("format: csv");
  });
  it("asks for the label of a list", () => {
    expect(linesFor("exits.txt", { ...base, format: "list" }, {})).toContain("label:");
  });
});

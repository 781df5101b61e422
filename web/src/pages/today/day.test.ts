import { describe, expect, it } from "vitest";
import { cityOf, dayOf, shifts, unusual } from "./day";

describe("dayOf", () => {
  it("begins at midnight of the zone, not of the reader", () => {
    const d = dayOf("Asia/Kathmandu", new Date("2026-11-14T20:00:40Z"));
    expect(d.start.toISOString()).toBe("2026-11-14T18:15:00.000Z");
    expect(d.now.toISOString()).toBe("2026-11-14T20:00:00.000Z");
  });
  it("finds the midnight of a week before across a change of the clock", () => {
    const d = dayOf("Europe/Lisbon", new Date("2026-10-28T10:00:00Z"));
    expect(d.start.toISOString()).toBe("2026-10-28T00:00:00.000Z");
    expect(d.before.toISOString()).toBe("2026-10-20T23:00:00.000Z");
  });
  it("names a zone by its town", () => expect(cityOf("America/Sao_Paulo")).toBe("Sao Paulo"));
});

describe("shifts", () => {
  const row = (country_code: string, visits: number) => ({ country_code, name: country_code, visits });
  it("puts what differs most first, also what is gone", () => {
    const list = shifts([row("NO", 84), row("PT", 100)], [row("NO", 31), row("PT", 104), row("JP", 30)], 3);
    expect(list.map((s) => s.code)).toEqual(["JP", "NO", "PT"]);
    expect(unusual(list)?.code).toBe("NO");
  });
  it("is not surprised by few", () => expect(unusual(shifts([row("IS", 4)], [], 3))).toBeUndefined());
});

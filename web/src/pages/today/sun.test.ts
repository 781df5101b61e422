import { describe, expect, it } from "vitest";
import { oppositeOfSun } from "./sun";

describe("oppositeOfSun", () => {
  it("lies on the southern tropic at the summer solstice, and on the equator at the equinox", () => {
    expect(oppositeOfSun(new Date("2026-06-21T12:00:00Z"))[1]).toBeCloseTo(-23.4, 1);
    expect(Math.abs(oppositeOfSun(new Date("2026-03-20T14:46:00Z"))[1])).toBeLessThan(0.1);
  });
  it("is near the antimeridian at noon in Greenwich, and goes west by 15 degrees an hour", () => {
    const noon = oppositeOfSun(new Date("2026-04-15T12:00:00Z"))[0];
    expect(Math.abs(Math.abs(noon) - 180)).toBeLessThan(1);
    const evening = oppositeOfSun(new Date("2026-04-15T18:00:00Z"))[0];
    expect(evening).toBeGreaterThan(89);
    expect(evening).toBeLessThan(91);
  });
});

import { describe, expect, it } from "vitest";
import type { Place } from "../../api/client";
import { cluster, labels, radiusOf, type Spot } from "./cluster";

function spot(city: string, x: number, y: number, visits: number, level: Place["level"] = "city"): Spot {
  const place: Place = {
    level,
    country_code: "PT",
    region_code: null,
    city: level === "city" ? city : null,
    names: { country: "Portugal", region: null, city: null },
    latitude: 0,
    longitude: 0,
    radius_km: 10,
    visits,
  };
  return { place, x, y, r: level === "country" ? 200 : 5 };
}

/** crowd is a fixed heap of spots that overlap in many ways. */
const crowd = Array.from({ length: 80 }, (_, i) =>
  spot(`town ${i}`, (i * 97) % 400, (i * 61) % 300, 1 + (i % 13)),
);

describe("cluster", () => {
  it("joins what overlaps under the busiest, and loses no visit", () => {
    const groups = cluster([spot("Lisbon", 0, 0, 3), spot("Porto", 4, 4, 9), spot("Faro", 300, 0, 1)]);
    expect(groups.map((g) => g.visits)).toEqual([12, 1]);
    expect(groups[0]?.places.map((p) => p.city)).toEqual(["Porto", "Lisbon"]);
    expect(groups[0]?.x).toBe(4);
  });

  it("ends with circles that do not overlap", () => {
    const groups = cluster(crowd);
    const sum = (list: { visits: number }[]) => list.reduce((n, g) => n + g.visits, 0);
    expect(sum(groups)).toBe(sum(crowd.map((s) => s.place)));
    groups.forEach((a, i) =>
      groups.slice(i + 1).forEach((b) => {
        expect(Math.hypot(a.x - b.x, a.y - b.y)).toBeGreaterThanOrEqual(radiusOf(a) + radiusOf(b));
      }),
    );
  });

  it("holds what it promises for crowds of every size and spread", () => {
    let state = 7;
    const next = (n: number) => {
      state = (state * 1664525 + 1013904223) % 2 ** 32;
      return (state / 2 ** 32) * n;
    };
    for (let round = 0; round < 60; round++) {
      const [side, n] = [20 + next(round % 2 ? 4000 : 300), 1 + Math.floor(next(400))];
      const spots = Array.from({ length: n }, (_, i) => ({
        ...spot(`town ${i}`, next(side) - side / 3, next(side) - side / 3, 1 + Math.floor(next(2) ** 12)),
        r: 5 + next(round % 3 ? 5 : 120),
      }));
      const groups = cluster(spots);
      expect(groups.flatMap((g) => g.places.map((p) => p.city)).sort()).toEqual(
        spots.map((s) => s.place.city).sort(),
      );
      groups.forEach((a, i) => {
        const own = spots.find((s) => s.place === a.places[0]);
        expect([a.visits, a.x, a.y]).toEqual([
          a.places.reduce((sum, p) => sum + p.visits, 0),
          own?.x,
          own?.y,
        ]);
        expect(a.places.map((p) => p.visits)).toEqual(a.places.map((p) => p.visits).sort((x, y) => y - x));
        const over = groups
          .slice(i + 1)
          .filter((b) => Math.hypot(a.x - b.x, a.y - b.y) < radiusOf(a) + radiusOf(b));
        expect(over).toEqual([]);
      });
    }
  });

  it("keeps country level apart from the dots inside it", () => {
    const groups = cluster([spot("Lisbon", 0, 0, 3), spot("", 10, 0, 5, "country")]);
    expect(groups.map((g) => g.wide)).toEqual([true, false]);
  });
});

describe("labels", () => {
  it("leaves out what would collide", () => {
    const groups = cluster(crowd);
    const placed = labels(groups, (g) => g.places[0]?.city ?? "");
    const boxes = placed.map((l) => {
      const w = l.text.length * 6.4;
      const x0 = l.anchor === "start" ? l.x : l.anchor === "end" ? l.x - w : l.x - w / 2;
      return { x0, x1: x0 + w, y0: l.y - 11, y1: l.y + 3 };
    });
    boxes.forEach((a, i) =>
      boxes.slice(i + 1).forEach((b) => {
        expect(a.x1 < b.x0 || a.x0 > b.x1 || a.y1 < b.y0 || a.y0 > b.y1).toBe(true);
      }),
    );
  });
});

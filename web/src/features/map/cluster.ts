import type { Place } from "../../api/client";

/** A Spot is a place at its position on the screen, in pixels. */
export interface Spot {
  place: Place;
  x: number;
  y: number;
  r: number;
}

/** A Group is one circle of the map: a place, or several that would overlap. */
export interface Group {
  key: string;
  places: Place[];
  x: number;
  y: number;
  r: number;
  visits: number;
  /** wide: all that is known is the country. */
  wide: boolean;
}

export const placeKey = (p: Place) => `${p.level}/${p.country_code}/${p.region_code ?? ""}/${p.city ?? ""}`;

const isWide = (p: Place) => p.level === "country" || p.level === "continent";

/** radiusOf is how large a circle is drawn, in pixels. */
export const radiusOf = (g: Group) => (g.places.length > 1 ? 10 + 1.6 * Math.log2(g.visits + 1) : g.r);

/**
 * cluster joins circles until none overlap; the busier one keeps its position.
 * Country level is not a dot among dots: it stays a ring of its own.
 */
export function cluster(spots: Spot[]): Group[] {
  const groups: Group[] = spots.map((s) => ({
    key: placeKey(s.place),
    places: [s.place],
    x: s.x,
    y: s.y,
    r: s.r,
    visits: s.place.visits,
    wide: isWide(s.place),
  }));
  const byVisits = (a: Group, b: Group) => b.visits - a.visits;
  groups.sort(byVisits);
  for (let i = 0; i < groups.length;) {
    const g = groups[i];
    const j = groups.findIndex((o, at) => at > i && g && !g.wide && !o.wide && overlap(g, o));
    const other = groups[j];
    if (!g || !other) {
      i++;
      continue;
    }
    g.places = [...g.places, ...other.places].sort((a, b) => b.visits - a.visits);
    g.visits += other.visits;
    groups.splice(j, 1);
    groups.sort(byVisits);
    i = 0; // the larger circle may now touch one that it did not
  }
  return groups;
}

const overlap = (a: Group, b: Group) => Math.hypot(a.x - b.x, a.y - b.y) < radiusOf(a) + radiusOf(b) + 4;

/** A Label is text that is drawn beside a circle. */
export interface Label {
  group: Group;
  text: string;
  x: number;
  y: number;
  anchor: "start" | "end" | "middle";
}

interface Box {
  x0: number;
  x1: number;
  y0: number;
  y1: number;
}

/** labels places names beside circles, the largest first; those that collide are left out. Clusters have none, unless it is asked for. */
export function labels(groups: Group[], nameOf: (g: Group) => string, clusters = false): Label[] {
  const dots = groups.filter((g) => !g.wide);
  const taken: Box[] = dots.map((g) => ({
    x0: g.x - radiusOf(g),
    x1: g.x + radiusOf(g),
    y0: g.y - radiusOf(g),
    y1: g.y + radiusOf(g),
  }));
  const free = (b: Box, own: number) =>
    taken.every((t, i) => i === own || b.x1 < t.x0 || b.x0 > t.x1 || b.y1 < t.y0 || b.y0 > t.y1);
  const placed: Label[] = [];
  const place = (tries: Label[], own: number) => {
    for (const t of tries) {
      const w = t.text.length * 6.4;
      const x0 = t.anchor === "start" ? t.x : t.anchor === "end" ? t.x - w : t.x - w / 2;
      const box = { x0, x1: x0 + w, y0: t.y - 11, y1: t.y + 3 };
      if (free(box, own)) {
        taken.push(box);
        placed.push(t);
        return;
      }
    }
  };
  dots.forEach((group, own) => {
    if (group.places.length > 1 && !clusters) return;
    const text = `${nameOf(group)} ${group.visits}`;
    const { x, y } = group;
    const r = radiusOf(group);
    place(
      [
        { group, text, x: x + r + 5, y: y + 4, anchor: "start" },
        { group, text, x: x - r - 5, y: y + 4, anchor: "end" },
        { group, text, x, y: y - r - 6, anchor: "middle" },
        { group, text, x, y: y + r + 14, anchor: "middle" },
      ],
      own,
    );
  });
  for (const group of groups.filter((g) => g.wide)) {
    const text = `${nameOf(group)}, country level ${group.visits}`;
    const { x, y } = group;
    const r = radiusOf(group);
    place(
      [0.62, -0.5, 1.15, -1.1].map((part) => ({ group, text, x, y: y + r * part, anchor: "middle" })),
      -1,
    );
  }
  return placed;
}

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

/** busiestFirst is the order in which groups are drawn, listed and labelled. */
const busiestFirst = (a: { visits: number }, b: { visits: number }) => b.visits - a.visits;

/**
 * cluster joins circles until none overlap; a circle stands where its busiest place is.
 * Country level is not a dot among dots: it stays a ring of its own.
 */
export function cluster(spots: Spot[]): Group[] {
  const wide: Group[] = [];
  const dots = new Grid();
  for (const spot of [...spots].sort((a, b) => busiestFirst(a.place, b.place))) {
    let group = groupOf(spot);
    if (group.wide) {
      wide.push(group);
      continue;
    }
    // A circle that has taken another in is larger, and may now touch one that it did not.
    for (let other = dots.touching(group); other; other = dots.touching(group)) {
      dots.remove(other);
      group = joined(group, other);
    }
    dots.add(group);
  }
  const groups = [...wide, ...dots.all()].sort(busiestFirst);
  for (const group of groups) group.places.sort(busiestFirst);
  return groups;
}

const groupOf = ({ place, x, y, r }: Spot): Group => ({
  key: placeKey(place),
  places: [place],
  x,
  y,
  r,
  visits: place.visits,
  wide: isWide(place),
});

/** joined is one circle for two, where the busiest place of both is. */
function joined(a: Group, b: Group): Group {
  const busiest = (g: Group) => g.places[0]?.visits ?? 0;
  const [kept, taken] = busiest(a) > busiest(b) ? [a, b] : [b, a];
  for (const place of taken.places) kept.places.push(place);
  kept.visits += taken.visits;
  return kept;
}

/** A Grid keeps circles by where they are, so that only those nearby are looked at. */
class Grid {
  private static readonly side = 32; // pixels
  private readonly cells = new Map<number, Set<Group>>();
  private largest = 0;

  private cellOf(x: number, y: number) {
    return Math.floor(x / Grid.side) * 2 ** 20 + Math.floor(y / Grid.side);
  }

  add(group: Group) {
    this.largest = Math.max(this.largest, radiusOf(group));
    const name = this.cellOf(group.x, group.y);
    const cell = this.cells.get(name);
    if (cell) cell.add(group);
    else this.cells.set(name, new Set([group]));
  }

  remove(group: Group) {
    this.cells.get(this.cellOf(group.x, group.y))?.delete(group);
  }

  touching(group: Group): Group | undefined {
    const reach = radiusOf(group) + this.largest + apart;
    for (let x = group.x - reach; x < group.x + reach + Grid.side; x += Grid.side)
      for (let y = group.y - reach; y < group.y + reach + Grid.side; y += Grid.side)
        for (const other of this.cells.get(this.cellOf(x, y)) ?? []) if (overlap(group, other)) return other;
    return undefined;
  }

  all(): Group[] {
    return [...this.cells.values()].flatMap((cell) => [...cell]);
  }
}

/** apart is how much room is left between two circles, in pixels. */
const apart = 4;

const overlap = (a: Group, b: Group) => Math.hypot(a.x - b.x, a.y - b.y) < radiusOf(a) + radiusOf(b) + apart;

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

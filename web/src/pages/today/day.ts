import dayjs from "dayjs";
import "../visits/filters"; // which teaches dayjs about zones

/** Day is the day that it is in a zone, and the same weekday a week before. */
export interface Day {
  /** now is cut to the minute, so that questions stay the same for a while. */
  now: dayjs.Dayjs;
  start: dayjs.Dayjs;
  before: dayjs.Dayjs;
}

export function dayOf(zone: string, at: Date): Day {
  const now = dayjs(at).tz(zone).startOf("minute");
  const start = now.startOf("day");
  const date = dayjs.utc(start.format("YYYY-MM-DD")).subtract(7, "day").format("YYYY-MM-DD");
  return { now, start, before: dayjs.tz(date, zone) };
}

/** cityOf is what people call a zone: the last part of its name. */
export const cityOf = (zone: string) => (zone.split("/").pop() ?? zone).replaceAll("_", " ");

/** Shift is a country whose visits differ from a week before. */
export interface Shift {
  code: string;
  name: string;
  now: number;
  then: number;
}

/** shifts lists the countries that changed most, by how surprising it is: counts scatter by their root. */
export function shifts(now: Counted[], then: Counted[], most: number): Shift[] {
  const before = new Map(then.map((r) => [r.country_code, r.visits]));
  const all: Shift[] = [];
  for (const r of now) {
    if (r.country_code)
      all.push({
        code: r.country_code,
        name: r.name ?? r.country_code,
        now: r.visits,
        then: before.get(r.country_code) ?? 0,
      });
    before.delete(r.country_code);
  }
  for (const r of then)
    if (r.country_code && before.has(r.country_code))
      all.push({ code: r.country_code, name: r.name ?? r.country_code, now: 0, then: r.visits });
  const surprise = (s: Shift) => Math.abs(s.now - s.then) / Math.sqrt(s.now + s.then + 1);
  return all.sort((a, b) => surprise(b) - surprise(a)).slice(0, most);
}

interface Counted {
  country_code: string | null;
  name: string | null;
  visits: number;
}

/** unusual is a country that is far busier than a week before, if one is. */
export function unusual(list: Shift[]): Shift | undefined {
  return list.find((s) => s.now > s.then && s.now >= 10 && (s.now - s.then) / Math.sqrt(s.now + s.then) > 3);
}

import dayjs from "dayjs";
import type { Companion, CompanionSaid, CompanionTried } from "../../api/companions";

/** visitors are the made-up visitors that a companion is tried with at first. */
export const visitors = ["Lisbon, PT", "Oslo, NO", "Mumbai, IN", "Auckland, NZ"];

/** fresh is what a companion begins with. */
export const fresh: CompanionSaid = {
  title: "",
  note: "",
  enabled: true,
  method: "GET",
  url: "",
  parameters: [
    { name: "lat", in: "query", fact: "latitude" },
    { name: "lon", in: "query", fact: "longitude" },
  ],
  grid: 0.1,
  level: "region",
  timeout_ms: 2000,
  values: [],
  categories: [],
  default: "",
  credit: "",
  credit_url: "",
  a_day: 1000,
  a_minute: 60,
  reserve: 100,
  keep_seconds: 900,
  oldest_seconds: 21_600,
};

export const facts = [
  "latitude",
  "longitude",
  "country_code",
  "time_zone",
  "language",
  "currency_code",
] as const;

/** isPlace says whether a fact is a coordinate, which is rounded. */
export const isPlace = (fact: string | undefined) => fact === "latitude" || fact === "longitude";

/** span says how long something is, in the largest unit that is whole. */
export function span(seconds: number): string {
  for (const [unit, size] of [
    ["d", 86_400],
    ["h", 3600],
    ["min", 60],
  ] as const)
    if (seconds >= size && seconds % size === 0) return `${seconds / size} ${unit}`;
  return `${seconds} s`;
}

/** age says how old an answer is, roughly. */
export const age = (seconds: number) =>
  seconds < 60
    ? "now"
    : seconds < 7200
      ? `${Math.floor(seconds / 60)} min`
      : seconds < 172_800
        ? `${Math.floor(seconds / 3600)} h`
        : `${Math.floor(seconds / 86_400)} d`;

/** failing says why a companion fails, and what happens meanwhile. */
export function failing(c: Companion): { since: string; rest: string } {
  const at = (time: string) => dayjs(time).format("HH:mm");
  const reason = (c.reason ?? "it fails").replace(/^the service /, "");
  return {
    since: `${reason.charAt(0).toUpperCase()}${reason.slice(1)}${c.since ? `, since ${at(c.since)};` : ";"}`,
    rest: `good answers are shown with their age.${c.next_try ? ` Next question at ${at(c.next_try)}.` : ""}`,
  };
}

/** matching counts the visitors of whom a category is active. */
export const matching = (tries: CompanionTried[], category: string) =>
  tries.filter((t) => t.answer.category === category).length;

/** nameFor makes a name for a value of the last part of its pointer, that no other has. */
export function nameFor(pointer: string, taken: string[]): string {
  const part = (pointer.split("/").pop() ?? "").toLowerCase().replace(/[^a-z0-9_]+/g, "_");
  const word = /^[a-z]/.test(part) ? part.slice(0, 36) : `value_${part}`.slice(0, 36).replace(/_$/, "");
  for (let n = 1; ; n++) {
    const name = n === 1 ? word : `${word}_${n}`;
    if (!taken.includes(name)) return name;
  }
}

import dayjs from "dayjs";
import type { Card, Level, Trail, Location } from "../api/client";

/** bases are what a country may rest on, the best first. */
export const bases = [
  "correction",
  "self-published claim",
  "table's claim",
  "derived",
  "registration",
] as const satisfies NonNullable<Location["basis"]>[];

/** degrees writes a coordinate with a true minus sign. */
export const degrees = (n: number) => String(Math.round(n * 100) / 100).replace("-", "−");

/** counted words a count: 1 visit, 1,234 visits. */
export const counted = (n: number, noun: string, nouns = `${noun}s`) =>
  `${n.toLocaleString("en")} ${n === 1 ? noun : nouns}`;

export const km = (n: number) => `${Math.round(n).toLocaleString("en")} km`;

/** clockTime is the time of day today, and day and time before. */
export function clockTime(time: string): string {
  const t = dayjs(time);
  return t.isSame(dayjs(), "day") ? t.format("HH:mm:ss") : t.format("D MMM HH:mm");
}

/** placeName is the finest thing that a location names. */
export function placeName(w: Location): string {
  return (
    w.names.city ?? w.city ?? w.names.region ?? w.names.country ?? w.names.continent ?? "Location unknown"
  );
}

const steps: Record<Level, number> = { city: 4, region: 3, country: 2, continent: 1, none: 0 };
export const levelSteps = (level: Level) => steps[level];

/** bitsLeft is how long the prefix is that is left of an address that was truncated, as /24; nothing for a whole one. */
export function bitsLeft(address: string): string {
  if (/^\d+\.\d+\.\d+\.0$/.test(address)) return "/24";
  if (/^2002:[^:]+:([^:]*00|0)?::$|^2002(:[^:]+)?::$/.test(address)) return "/40";
  return /^([^:]+:){1,3}:$/.test(address) ? "/48" : "";
}

/** wasFound says whether a visitor was found at all, kept or not. */
export const wasFound = (card: Card) => card.address.kind !== null;

export const unverified = (trail: Trail) =>
  trail.omitted + trail.hops.filter((h) => h.verdict === "unverified").length;

/** opened says that the configuration resolves an address although its kind is special. */
export const isOpened = (card: Card) =>
  !card.address.skipped &&
  card.address.kind !== null &&
  !["public", "translation", "tunnel"].includes(card.address.kind);

/** factNames are the facts of an atlas, as people read them. */
export const factNames: Record<string, string> = {
  continent_code: "Continent",
  country_code: "Country",
  region_code: "Region",
  city: "City",
  postal_code: "Postal code",
  latitude: "Latitude",
  longitude: "Longitude",
  radius_km: "Radius",
  time_zone: "Time zone",
  as_number: "AS number",
  operator: "Operator",
  labels: "Labels",
};
export const factName = (fact: string) => factNames[fact] ?? fact;

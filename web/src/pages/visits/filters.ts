import dayjs from "dayjs";
import timezone from "dayjs/plugin/timezone";
import utc from "dayjs/plugin/utc";
import type { VisitFilter } from "../../api/queries";
import type { Level } from "../../api/client";

dayjs.extend(utc);
dayjs.extend(timezone);

/** The filters as they stand in the page's address. */
export const filterKeys = [
  "since",
  "country_code",
  "region_code",
  "city",
  "level",
  "basis",
  "skipped",
  "path",
  "referrer",
  "language",
  "time_zone",
  "network",
  "label",
  "link",
  "mark",
  "prefix",
] as const;
export type FilterKey = (typeof filterKeys)[number];

export const sinceChoices: Record<string, { words: string; hours: number }> = {
  today: { words: "midnight", hours: 0 },
  hour: { words: "the last hour", hours: 1 },
  day: { words: "24 hours ago", hours: 24 },
  week: { words: "7 days ago", hours: 7 * 24 },
};

export const filterNames: Record<FilterKey, string> = {
  since: "since",
  country_code: "country",
  region_code: "region",
  city: "town",
  level: "level",
  basis: "rests on",
  skipped: "skipped",
  path: "path",
  referrer: "referrer",
  language: "language",
  time_zone: "time zone",
  network: "network",
  label: "label",
  link: "link",
  mark: "mark",
  prefix: "address",
};

/** plainKeys go to the service as they stand. */
const plainKeys = [
  "basis",
  "region_code",
  "city",
  "path",
  "referrer",
  "language",
  "time_zone",
  "network",
  "label",
  "link",
  "prefix",
] as const;

/** today is when the day began, in a zone. */
export function startOfDay(zone: string, at = dayjs()): dayjs.Dayjs {
  return at.tz(zone).startOf("day");
}

/** words says what a filter is set to, for its chip. */
export function words(key: FilterKey, value: string): string {
  if (key === "since") return sinceChoices[value]?.words ?? value;
  if (key === "skipped") return value === "true" ? "only" : "left out";
  if (key === "path") return `${value}…`;
  if (key === "country_code") {
    try {
      return new Intl.DisplayNames(["en"], { type: "region" }).of(value) ?? value;
    } catch {
      return value;
    }
  }
  return value;
}

/** toQuery turns the page's address into the query of the service; times are cut to the minute, so that it stays the same for a while. */
export function toQuery(params: URLSearchParams, zone = "UTC"): VisitFilter {
  const query: VisitFilter = {};
  const since = sinceChoices[params.get("since") ?? ""];
  if (since?.hours === 0) query.from = startOfDay(zone).toISOString();
  else if (since) query.from = dayjs().startOf("minute").subtract(since.hours, "hour").toISOString();
  const country = params.get("country_code");
  if (country) query.country_code = country.toUpperCase();
  const level = params.get("level");
  if (level) query.level = level as Level;
  const aside = params.get("skipped");
  if (aside) query.skipped = aside === "true";
  const mark = params.get("mark");
  if (mark) query.mark = mark as NonNullable<VisitFilter["mark"]>;
  for (const key of plainKeys) {
    const value = params.get(key);
    if (value) Object.assign(query, { [key]: value });
  }
  return query;
}

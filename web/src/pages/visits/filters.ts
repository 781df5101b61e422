import dayjs from "dayjs";
import type { VisitFilter } from "../../api/queries";
import type { Level } from "../../api/client";

/** The filters as they stand in the page's address. */
export const filterKeys = ["since", "country_code", "city", "level", "set_aside", "path"] as const;
export type FilterKey = (typeof filterKeys)[number];

export const sinceChoices: Record<string, { words: string; hours: number }> = {
  hour: { words: "the last hour", hours: 1 },
  day: { words: "24 hours ago", hours: 24 },
  week: { words: "7 days ago", hours: 7 * 24 },
};

export const filterNames: Record<FilterKey, string> = {
  since: "since",
  country_code: "country",
  city: "town",
  level: "level",
  set_aside: "set aside",
  path: "path",
};

/** words says what a filter is set to, for its chip. */
export function words(key: FilterKey, value: string): string {
  if (key === "since") return sinceChoices[value]?.words ?? value;
  if (key === "set_aside") return value === "true" ? "only" : "left out";
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
export function toQuery(params: URLSearchParams): VisitFilter {
  const query: VisitFilter = {};
  const since = sinceChoices[params.get("since") ?? ""];
  if (since) query.from = dayjs().startOf("minute").subtract(since.hours, "hour").toISOString();
  const country = params.get("country_code");
  if (country) query.country_code = country.toUpperCase();
  const city = params.get("city");
  if (city) query.city = city;
  const level = params.get("level");
  if (level) query.level = level as Level;
  const aside = params.get("set_aside");
  if (aside) query.set_aside = aside === "true";
  const path = params.get("path");
  if (path) query.path = path;
  return query;
}

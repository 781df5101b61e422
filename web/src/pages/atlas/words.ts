import dayjs from "dayjs";
import { type Spot } from "../../api/client";

/** dated gives the date that an edition's name begins with, as "14 November". */
export function dated(name: string): string {
  const day = /^\d{4}-\d{2}-\d{2}/.exec(name);
  return day ? dayjs(day[0]).format("D MMMM") : name;
}

/** age says how old a date is, in days. */
export function age(date: string | null): string {
  if (!date) return "not said";
  const days = dayjs().startOf("day").diff(dayjs(date), "day");
  if (days <= 0) return "today";
  return days === 1 ? "1 day" : `${days} days`;
}

/** spotName is the finest thing that a spot names; a country by its name. */
export function spotName(s: Spot): string {
  if (s.city) return s.city;
  if (s.region_code) return s.region_code;
  if (s.country_code)
    return new Intl.DisplayNames(["en"], { type: "region" }).of(s.country_code) ?? s.country_code;
  return "location unknown";
}

/** amount writes a count of addresses in few figures. */
export function amount(n: number): string {
  if (n >= 1e9) return `${(n / 1e9).toFixed(2)} billion`;
  if (n >= 1e6) return `${(n / 1e6).toFixed(2)} million`;
  return Math.round(n).toLocaleString("en");
}

/** percent writes a share; what is nearly nothing is not written as nothing. */
export function percent(share: number | null | undefined): string {
  if (share === null || share === undefined) return "–";
  if (share > 0 && share < 0.005) return "< 1 %";
  return `${Math.round(share * 100)} %`;
}

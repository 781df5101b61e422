import { counted } from "../../components/format";
import dayjs from "dayjs";
import type { LinkPlace, LinkRoute, TrackedLink } from "../../api/links";

/** leadsTo says by what the destination depends. */
export function leadsTo(link: TrackedLink): string {
  const by = [
    ["country", link.routes.some((r) => r.countries.length > 0)],
    ["language", link.routes.some((r) => r.languages.length > 0)],
    ["variant", link.routes.some((r) => r.variants.length > 0)],
  ].filter(([, is]) => is);
  if (by.length === 0) return "one for all";
  if (by.length === 1 && by[0]?.[0] === "language") {
    const tags = new Set(link.routes.flatMap((r) => r.languages));
    return `${tags.size + 1} languages`;
  }
  return by.map(([word]) => word).join(", ");
}

/** whom says who a route is for, but for countries, which have flags. */
export function whom(r: LinkRoute): string {
  return [
    r.languages.length > 0 ? `reads ${r.languages.join(" or ")}` : "",
    r.variants.length > 0 ? r.variants.join(" or ") : "",
  ]
    .filter(Boolean)
    .join(", ");
}

export interface Stand {
  word: string;
  more: string;
  kind: "ok" | "attention" | "off" | "ended";
}

const day = (time: string) => dayjs(time).format("D MMM YYYY");

/** fewLeft is from how many clicks on a limit is near, as a share of it. */
const fewLeft = 0.1;

/** stand says how a link stands, in two lines. */
export function stand(link: TrackedLink, now: dayjs.Dayjs): Stand {
  if (link.state === "disabled")
    return { word: "disabled", more: `since ${day(link.since ?? "")}`, kind: "off" };
  if (link.state === "expired")
    return { word: "expired", more: `since ${day(link.since ?? "")}`, kind: "ended" };
  if (link.limit !== null) {
    const limit = `limit ${link.limit.toLocaleString("en")}`;
    if (link.state === "limit") return { word: "at its limit", more: limit, kind: "ended" };
    const left = link.limit - link.used;
    if (left <= Math.max(1, link.limit * fewLeft))
      return { word: `${counted(left, "click")} left`, more: limit, kind: "attention" };
    if (link.until === null) return { word: "active", more: limit, kind: "ok" };
  }
  if (link.until === null) return { word: "active", more: "", kind: "ok" };
  const until = dayjs(link.until);
  if (until.diff(now, "hour") < 24)
    return {
      word: until.isSame(now, "day") ? "expires today" : "expires soon",
      more: `until ${until.format("D MMM HH:mm")}`,
      kind: "attention",
    };
  return { word: "active", more: `until ${day(link.until)}`, kind: "ok" };
}

/** wholeStand is the same on one line, with what the link answers. */
export function wholeStand(link: TrackedLink, now: dayjs.Dayjs): string {
  const s = stand(link, now);
  if (s.kind === "off" || s.kind === "ended") return `${s.word} ${s.more}, answers 410`;
  const end = link.until === null ? "no end" : `until ${dayjs(link.until).format("D MMM YYYY HH:mm")}`;
  const limit =
    link.limit === null
      ? "no limit"
      : `${(link.limit - link.used).toLocaleString("en")} of ${link.limit.toLocaleString("en")} left`;
  return `active, ${end}, ${limit}; answers ${link.status}`;
}

/** placeWords is what stands for a place: the owner's word, the name, or that there is none. */
export function placeWords(p: LinkPlace): string {
  if (p.placeholder !== null) return p.placeholder;
  if (p.name !== null) return p.name;
  return p.place.level === "skipped" ? "skipped" : p.place.level === "not found" ? "not found" : "none";
}

/** leftOut says what is not counted, such as 12 previews, by its mark. */
export const leftOut = (of: Record<string, number>) =>
  Object.entries(of)
    .filter(([, n]) => n > 0)
    .sort(([a], [b]) => a.localeCompare(b))
    .map(([mark, n]) => ({ mark, words: `${n.toLocaleString("en")} ${mark}${n === 1 ? "" : "s"}` }));

/** visitsOf is the address of the clicks on a link, which are visits, and not of other visits that came by it. */
export const visitsOf = (code: string, more: Record<string, string> = {}) =>
  `/visits?${new URLSearchParams({ link: code, path: `/to/${code}`, ...more })}`;

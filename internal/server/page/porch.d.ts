/**
 * East Porch for pages.
 *
 *     <script src="https://in.heronlake.example/porch.js" data-key="porch_page_…" defer></script>
 *
 * Attributes of the script: `data-key` (a page key; leave it out where a proxy of yours adds one), `data-fields` (paths of
 * the card, with commas), `data-site` (where a host serves several), `data-timeout` (milliseconds, 5000), `data-visit`
 * (record a visit for each view: a load, another path or query by pushState or Back, and each return of a page that the
 * browser kept; `data-visit="consent"` sends and remembers nothing before `porch.consent(true)`), `data-companions` (ask for
 * companions also where no placeholder shows one, for the classes below).
 *
 * Placeholders keep their own text until an answer is there, and for good where none comes; `data-porch-state` on them is
 * `loading`, `ready` or `failed`:
 *
 *     <b data-porch="location.names.city">your town</b>
 *     <time datetime="2027-06-12T10:00:00+02:00" data-porch="time" data-date-style="medium">12 June, 10:00 in Oslo</time>
 *     <data value="85" data-porch="price">85 €</data>
 *     <img data-porch="flag" data-shape="round" width="24" height="24" alt="">
 *     <div data-porch="switch" hidden>… <button data-porch="go">…</button> <button data-porch="stay">…</button></div>
 *     <button data-porch="locate" hidden>Show what is near me (your position is used once and not kept)</button>
 *
 * `switch` is shown where the language that suits is not the page's (`<html lang>`), the page links to its other language
 * (`<link rel="alternate" hreflang="pt-PT" href="…">`), and the visitor has not chosen yet. The choice is kept in this
 * browser and in the cookie `porch_choice`, and wins from then on.
 *
 * Companions, such as one called `weather`: the page gets one class, `weather-bright`, which is replaced when the category
 * changes; a placeholder may have its own words for categories. While the page is looked at they are asked for again, once in
 * a moment where the service is being asked, then as often as there may be something new.
 *
 *     <b data-porch="companions.weather.category" data-bright="Sun" data-rain="Rain">the sky</b>
 *     <span data-porch="companions.weather.human.temperature">–</span>
 *     <a data-porch="companions.weather.credit">Weather service</a>
 *
 * Events on `document`: `porch:card` (detail `{card, stale}`; stale is the answer of the page view before),
 * `porch:failed` (detail `{error}`), `porch:choice` (detail `{language}`).
 */
declare global {
  const porch: Porch;
  interface Window {
    readonly porch: Porch;
  }
  interface DocumentEventMap {
    "porch:card": CustomEvent<{ card: PorchCard; stale: boolean }>;
    "porch:failed": CustomEvent<{ error: Error }>;
    "porch:choice": CustomEvent<{ language: string }>;
  }
}

// The card, generated from api/openapi.yaml.
export interface PorchCard {
  location?: PorchLocation;
  locale?: PorchLocale;
  clock?: PorchClock;
  money?: PorchMoney;
  /** The content variant of each set of the site, by its name. */
  variants?: Record<string, string>;
  companions?: Record<string, PorchCompanion>;
  device?: PorchDevice | null;
}

export interface PorchLocation {
  level: "city" | "region" | "country" | "continent" | "none";
  /** On what grounds `country_code` is stated, the best first. */
  basis: "correction" | "self-published claim" | "table's claim" | "derived" | "registration" | null;
  continent_code: string | null;
  /** ISO 3166-1 alpha-2. */
  country_code: string | null;
  /** ISO 3166-2. */
  region_code: string | null;
  city: string | null;
  postal_code: string | null;
  latitude: number | null;
  longitude: number | null;
  radius_km: number | null;
  /** IANA name. */
  time_zone: string | null;
  /** In the language of who reads: a visitor's own card has them in `locale.language`, answers to others in `language`,
   * stored visits in English. A region that CLDR names in English alone stands in English, a town that it does not
   * know as the source has it. */
  names: { continent: string | null; country: string | null; region: string | null; city: string | null };
  /** Why a fact is null. Under `level` stands `town_not_found` where the gazetteer does not know the town that is named, and the
   * point and the level are of its region or country. */
  missing: Record<string, string>;
}

export interface PorchLocale {
  /** BCP 47. */
  language: string;
  /** ISO 15924. */
  script: string;
  direction: "ltr" | "rtl";
  /** BCP 47: by whose habits numbers and times are written. */
  formatting: string;
  reason: "choice" | "accept-language" | "country" | "default";
  /** What may be switched to, the best first. */
  offered: string[];
  /** In the language itself. */
  names: { language: string; country: string | null };
  /** What does not fit together; never a verdict. */
  hints: string[];
}

export interface PorchClock {
  time_zone: string | null;
  local_time: string | null;
  utc_offset: string | null;
  next_change: string | null;
  /** Whether the site's business hours are on there, on no weekend of that country. */
  business_hours: boolean | null;
}

export interface PorchMoney {
  /** ISO 4217, the usual one. */
  currency_code: string | null;
  /** As written in English, so that it is not mistaken for another's. */
  symbol: string | null;
  /** Decimals by ISO 4217, which amounts are rounded to; null where the list has none. */
  minor_units: number | null;
  /** Decimals that texts show (CLDR). */
  display_digits: number | null;
  /** What else is legal tender. */
  also: string[];
  /** From the site's own currency. */
  rate: PorchRate | null;
  /** From the currencies of `prices_in`, in its order; one that there is no rate of is left out. */
  rates: PorchRate[];
}

export interface PorchRate {
  from: string;
  /** For one of from, as a decimal number. */
  rate: string;
  /** Null for one and the same currency. */
  direction: string | null;
  dated: string;
  source: string;
  /** How the owner's prices end. */
  ending: string | null;
}

export interface PorchDevice {
  latitude: number;
  longitude: number;
  accuracy_km: number | null;
  /** The nearest town. */
  city: string | null;
  country_code: string | null;
  region_code: string | null;
  town_km: number | null;
  time_zone: string | null;
  /** To where the address is. */
  from_address_km: number | null;
}

export interface PorchCompanion {
  /** What you picked from its answer, by name. */
  values: Record<string, number | string | boolean | null>;
  /** The one that is active. */
  category: string | null;
  /** The values that are known, with their units, by the habits of the visitor's language. */
  human: Record<string, string>;
  /** What must be shown beside it. */
  credit: string | null;
  /** Where the credit leads. */
  credit_url: string | null;
  /** Why a value or the category is null. */
  missing: Record<string, string>;
  /** Seconds since the service said so; null without an answer. */
  age: number | null;
  /** The service is being asked; ask again in a moment. */
  pending: boolean;
  /** Seconds after which asking again may bring something new; null where nothing will. */
  refresh_after: number | null;
}

// End of the card.

export interface PorchPrice {
  /** By the habits of the visitor, in the language of the page. */
  text: string;
  amount: number;
  currency: string;
  from: string;
  direction?: string;
  dated?: string;
  source?: string;
}

export interface Porch {
  /** The last answer, which may be of the page view before; null for none. */
  readonly last: PorchCard | null;
  /** The language that the visitor chose, "" for none. */
  readonly choice: string;
  /** The answer of this page view. It rejects where the service does not answer in time. */
  card(): Promise<PorchCard>;
  /** Records a visit, by default of this page's path, and gives the card that answers it. It counts once however often it
   * has to be sent. Attributes are your own, at most 2048 bytes of JSON; link is the name of the link that led here. */
  visit(view?: { path?: string; referrer?: string; attributes?: Record<string, unknown>; link?: string }): Promise<PorchCard>;
  /** Says whether the visitor agreed, with `data-visit="consent"`: nothing is sent or remembered before, and what was
   * remembered is forgotten when it is withdrawn. Your page remembers the answer. */
  consent(given: boolean): void;
  /** Fills the placeholders within an element that came later. */
  apply(within: ParentNode): void;
  /** Remembers a language, which wins from now on ("" forgets it), and asks again. */
  choose(language: string): Promise<PorchCard>;
  /** An instant by the visitor's clock and habits; null while neither is known. */
  time(instant: string | number | Date, style?: "full" | "long" | "medium" | "short"): string | null;
  /** A price in the visitor's currency; null where there is no rate from its own. */
  price(value: number | string, from?: string): PorchPrice | null;
  /** The card with `device`, from the position of the visitor's device. Call it in an event that the visitor caused. */
  locate(): Promise<PorchCard>;
}

export {};

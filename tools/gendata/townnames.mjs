// What towns are called in each locale of CLDR: internal/core/gazetteer/names.gz. CLDR
// knows the towns that time zones are named after; capitals.mjs has what it lacks. The
// first line has the towns: the country, English, and every other spelling by which a
// source may call it, with | between them. Then a line a locale: its parent, and the names
// that differ from the parent's, by the town's number.
import { createRequire } from "node:module";
import { capitalLanguages, capitalNames } from "./capitals.mjs";
import { locales, parentOf } from "./locales.mjs";
import { officialOf } from "./countries.mjs";
import { named, zonesOf } from "./zone.mjs";

const require = createRequire(import.meta.url);
const flat = (zones, path = "") =>
  Object.entries(zones).flatMap(([key, value]) =>
    typeof value !== "object" ? [] : value.exemplarCity !== undefined ? [[named.get(path + key) ?? path + key, value.exemplarCity]] : flat(value, `${path}${key}/`),
  );
const exemplars = new Map(
  locales.map((tag) => [tag, new Map(flat(require(`cldr-dates-full/main/${tag}/timeZoneNames.json`).main[tag].dates.timeZoneNames.zone ?? {}))]),
);
const fold = (s) => s.normalize("NFD").replace(/\p{Mn}/gu, "").trim().toLowerCase();

// What the gazetteer calls a town otherwise than CLDR does.
const otherwise = {
  "Asia/Ho_Chi_Minh": "Ho Chi Minh City", "America/New_York": "New York City", "America/Ciudad_Juarez": "Juárez",
  "Asia/Ulaanbaatar": "Ulan Bator", "Asia/Macau": "Macau", "Asia/Aqtobe": "Aktobe",
};

export function townNames(towns) {
  const known = new Map(towns.map((t) => [`${t.country} ${fold(t.name)}`, t.name]));
  const list = [];
  for (const [country, zones] of Object.entries(zonesOf)) {
    for (const zone of zones) {
      const plain = zone.split("/").pop().replaceAll("_", " ");
      const english = exemplars.get("en").get(zone) ?? plain;
      const name = [otherwise[zone], english, plain].find((n) => n && known.has(`${country} ${fold(n)}`));
      if (!name) continue; // named after an island, a country or a station
      const of = (tag) => exemplars.get(tag).get(zone) ?? english;
      list.push({ country, english, of, spellings: [known.get(`${country} ${fold(name)}`), plain, ...officialOf(country).filter((l) => exemplars.has(l)).map(of)] });
    }
  }
  for (const [key, names] of Object.entries(capitalNames)) {
    const country = key.slice(0, 2), english = key.slice(3);
    const of = (tag) => names[capitalLanguages.indexOf(tag.split("-")[0])] || english;
    list.push({ country, english, of, spellings: officialOf(country).map(of) });
  }
  const lines = [list.map((t) => [t.country, ...new Set([t.english, ...t.spellings])].join("|")).join("\t")];
  const counts = {};
  for (const tag of locales) {
    const parent = parentOf(tag) === "root" ? "" : parentOf(tag);
    counts[tag] = list.filter((t) => t.of(tag) !== t.english).length;
    const own = list.flatMap((t, i) => {
      const above = parent ? t.of(parent) : t.english;
      return t.of(tag) === above ? [] : [`${i}=${t.of(tag)}`];
    });
    if (own.length || parent) lines.push([tag, parent, ...own].join("\t"));
  }
  // What a town is called in any locale: the largest of its country of that name.
  const all = new Map(), largest = new Map();
  for (const t of list) for (const name of t.spellings) all.set(`${t.country} ${fold(name)}`, [...new Set(locales.map(t.of))]);
  for (const t of towns) if (!largest.has(`${t.country} ${fold(t.name)}`)) largest.set(`${t.country} ${fold(t.name)}`, t.population);
  const names = (t) => (largest.get(`${t.country} ${fold(t.name)}`) === t.population && all.get(`${t.country} ${fold(t.name)}`)) || [];
  return { names, text: lines.join("\n") + "\n", towns: list.length, counts };
}

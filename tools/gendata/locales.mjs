// The names and habits of each locale of CLDR: internal/core/almanac/names.gz and
// internal/core/locale/habits.gz. Both are lines of fields between tabs; what a locale
// has from its parent stands only there.
import { createRequire } from "node:module";
import { existsSync, readdirSync } from "node:fs";
import { subdivisionList } from "./subdivisions.mjs";
import { iso6393 } from "iso-639-3";
import { codes } from "./countries.mjs";

const require = createRequire(import.meta.url);
const { coverageLevels } = require("cldr-core/coverageLevels.json");
const { dayPeriodRuleSet } = require("cldr-core/supplemental/dayPeriods.json").supplemental;
const { parentLocale } = require("cldr-core/supplemental/parentLocales.json").supplemental.parentLocales;
const systems = require("cldr-core/supplemental/numberingSystems.json").supplemental.numberingSystems;
const population = require("cldr-core/supplemental/territoryInfo.json").supplemental.territoryInfo;

const covered = (tag) => tag === "en" || coverageLevels[tag] || (tag.includes("-") && covered(tag.slice(0, tag.lastIndexOf("-"))));
const at = (path) => new URL(`node_modules/${path}`, import.meta.url);
const whole = (tag) => existsSync(at(`cldr-localenames-full/main/${tag}/territories.json`)) && existsSync(at(`cldr-dates-full/main/${tag}/ca-gregorian.json`));
export const locales = readdirSync(at("cldr-localenames-full/main")).filter((tag) => covered(tag) && whole(tag)).sort();
export const parentOf = (tag) => {
  const parent = parentLocale[tag] ?? (tag.includes("-") ? tag.slice(0, tag.lastIndexOf("-")) : "root");
  return parent === "root" || locales.includes(parent) ? parent : parentOf(parent);
};
const main = (pkg, tag, file) => require(`${pkg}/main/${tag}/${file}.json`).main[tag];
const inner = "\x1f"; // between the parts of one field

// writtenAbove gives the nearest parent that has a line of its own, or "".
function writtenAbove(tag, rows) {
  for (let p = parentOf(tag); p !== "root"; p = parentOf(p)) if (rows.has(p)) return p;
  return "";
}

// A locale in a script has a line also where its parent has the same: whoever looks for its
// parent by rule finds none.
const inScript = (tag) => /-[A-Z][a-z]{3}$/.test(tag);

// ------------------------------------------------------------------- names
const continents = { AF: "002", AN: "AQ", AS: "142", EU: "150", NA: "003", OC: "009", SA: "005" };
// CLDR names nearly all subdivisions in English alone; these it names elsewhere too.
const subdivisionFile = (tag) => ["", tag, tag.replaceAll("-", "_")].map((name) => `cldr-subdivisions-full/subdivisions/${tag}/${name}.json`).find((path) => existsSync(at(path)));
export const subdivisions = new Map(
  locales.filter(subdivisionFile).map((tag) => [tag, require(subdivisionFile(tag)).subdivisions.localeDisplayNames.subdivisions]),
);
const regions = new Map(
  subdivisionList.map((r) => [r.code.replace("-", "").toLowerCase(), r.code]).filter(([key]) => [...subdivisions].some(([tag, names]) => tag !== "en" && names[key])),
);
const subjects = [...codes, ...Object.values(continents), ...regions.keys()];
const territories = new Map(locales.map((tag) => [tag, main("cldr-localenames-full", tag, "territories").localeDisplayNames.territories]));
const languages = (tag) => main("cldr-localenames-full", tag, "languages").localeDisplayNames.languages;
const english = languages("en");
const nameOf = (tag, code) => {
  const name = regions.has(code) ? subdivisions.get(tag)?.[code] : territories.get(tag)[code];
  return name === code ? "" : (name ?? "");
};
// A language's own name, in the script that it is written in.
const ownName = (tag) => {
  const own = languages(tag);
  const base = tag.split("-")[0];
  const name = own[tag] ?? own[base] ?? english[tag] ?? "";
  return name === tag ? "" : name;
};

function names() {
  const rows = new Map();
  const lines = [["", "", "", ...codes, ...Object.keys(continents).map((c) => `+${c}`), ...regions.values()].join("\t")];
  for (const tag of locales) {
    const parent = parentOf(tag);
    const row = subjects.map((code) => {
      const name = nameOf(tag, code);
      return parent !== "root" && nameOf(parent, code) === name ? "" : name;
    });
    const own = ownName(tag) === (parent === "root" ? "" : ownName(parent)) ? "" : ownName(tag);
    if (own || row.some(Boolean) || inScript(tag)) rows.set(tag, [own, ...row]);
  }
  for (const [tag, row] of rows) lines.push([tag, writtenAbove(tag, rows), ...row].join("\t").trimEnd());
  // English names of the languages that are spoken somewhere.
  const spoken = new Set(codes.flatMap((c) => Object.keys(population[c]?.languagePopulation ?? {})).map((t) => t.replaceAll("_", "-")));
  const script = require("cldr-localenames-full/main/en/scripts.json").main.en.localeDisplayNames.scripts;
  const iso = Object.fromEntries(iso6393.map((l) => [l.iso6393, l.name]));
  const base = (tag) => english[tag] ?? iso[tag] ?? { kro: "Kru languages" }[tag] ?? tag;
  const englishOf = (tag) => english[tag] ?? base(tag.split("-")[0]) + (script[tag.split("-")[1]] ? ` (${script[tag.split("-")[1]]})` : "");
  for (const tag of [...new Set([...spoken, ...locales.filter((l) => !/-([A-Z]{2}|\d{3})$/.test(l))])].sort()) lines.push(["=", tag, englishOf(tag)].join("\t"));
  return lines.join("\n") + "\n";
}

// ------------------------------------------------------------------- habits
// The release has groups that its makers have not approved yet; browsers leave them out.
const groups = { "fr-CH": "\u202f" };

const currenciesOf = (tag) => main("cldr-numbers-full", tag, "currencies").numbers.currencies;

// marksOf are the pattern and the marks of a currency that a locale writes otherwise than
// others: those of where it is written so first, as ICU has it.
function marksOf(tag, code) {
  const own = currenciesOf(tag)[code], parent = parentOf(tag);
  if (!own.pattern && !own.decimal) return [];
  const above = parent === "root" ? {} : (currenciesOf(parent)[code] ?? {});
  if (own.pattern === above.pattern && own.decimal === above.decimal) return marksOf(parent, code);
  const symbols = main("cldr-numbers-full", tag, "numbers").numbers["symbols-numberSystem-latn"];
  return [own.pattern ?? "", own.decimal ?? symbols.decimal, own.group ?? symbols.group];
}

// periods are the parts of a day: when each begins, and its name.
function periods(tag, name) {
  const rules = dayPeriodRuleSet[tag] ?? dayPeriodRuleSet[tag.split("-")[0]];
  return Object.entries(rules).filter(([, r]) => r._from).map(([key, r]) => [r._from, name(key)]).sort().map((p) => p.join(" "));
}

function habitsOf(tag) {
  const numbers = main("cldr-numbers-full", tag, "numbers").numbers;
  const system = numbers.defaultNumberingSystem;
  const symbols = numbers[`symbols-numberSystem-${system}`];
  const money = numbers[`currencyFormats-numberSystem-${system}`];
  const digits = system === "latn" ? "" : (systems[system]?._digits ?? "");
  const signs = Object.entries(currenciesOf(tag))
    .filter(([code, c]) => (c.symbol && c.symbol !== code) || c.pattern || c.decimal)
    .map(([code, c]) => [`${code}=${c.symbol ?? code}`, ...marksOf(tag, code)].join("="));
  const dates = main("cldr-dates-full", tag, "ca-gregorian").dates.calendars.gregorian;
  const one = (format) => (typeof format === "string" ? format : format._value);
  const full = one(dates.dateFormats.full), letters = full.replace(/'[^']*'/g, "");
  // Names in the form that the full date asks for.
  const names = (what, keys, long, alone) => {
    const form = new RegExp(alone).test(letters) ? "stand-alone" : "format";
    return keys.map((k) => dates[what][form][new RegExp(`${long}|${alone}`).test(letters) ? "wide" : "abbreviated"][k]).join(inner);
  };
  const period = (k) => dates.dayPeriods.format.abbreviated[k];
  const join = dates["dateTimeFormats-atTime"]?.standard?.full ?? dates.dateTimeFormats.full;
  return [
    symbols.currencyDecimal ?? symbols.decimal, symbols.currencyGroup ?? groups[tag] ?? symbols.group, symbols.minusSign, digits, numbers.minimumGroupingDigits,
    money.standard, money["standard-alphaNextToNumber"] ?? money.standard, signs.join(inner),
    full, one(dates.dateFormats.short), one(dates.timeFormats.short), one(join),
    names("months", [1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12], "MMMM", "LLLL"), names("days", ["sun", "mon", "tue", "wed", "thu", "fri", "sat"], "EEEE", "cccc"),
    period("am"), period("pm"), one(dates.timeFormats.short).includes("B") ? periods(tag, period).join(inner) : "", letters.includes("G") ? dates.eras.eraAbbr[1] : "",
  ];
}

function habits() {
  const all = new Map(locales.map((tag) => [tag, habitsOf(tag)]));
  const rows = new Map();
  for (const [tag, own] of all) {
    const parent = all.get(parentOf(tag));
    const row = own.map((value, i) => (parent && parent[i] === value ? "" : value));
    // A field that is empty here and not in the parent is written as one space.
    own.forEach((value, i) => { if (value === "" && parent?.[i]) row[i] = " "; });
    if (row.some(Boolean) || inScript(tag)) rows.set(tag, row);
  }
  return [...rows].map(([tag, row]) => [tag, writtenAbove(tag, rows), ...row].join("\t")).join("\n") + "\n";
}

export const localeTables = () => [["almanac/names.gz", names()], ["locale/habits.gz", habits()]];

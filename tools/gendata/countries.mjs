// The almanac's table of countries: internal/core/almanac/tables.go.
import { readFileSync } from "node:fs";
import { createRequire } from "node:module";
import { iso31661 } from "iso-3166/1.js";
import { places } from "./places.mjs";
import { zonesOf } from "./zone.mjs";

const require = createRequire(import.meta.url);
const core = (file) => require(`cldr-core/supplemental/${file}.json`).supplemental;

export const codes = iso31661.map((c) => c.alpha2).sort();
const alpha2 = Object.fromEntries(iso31661.map((c) => [c.numeric, c.alpha2]));

// Reviewed facts, which no package has or has right. Dates say when they were so.
// Capitals: those that the towns do not mark as one, or name otherwise.
const capitals = {
  EH: ["Laayoune", 27.16, -13.2],
  IL: ["Jerusalem", 31.78, 35.22],
  LK: ["Sri Jayawardenepura Kotte", 6.89, 79.92],
  IO: ["Diego Garcia", -7.31, 72.41],
  PS: ["Ramallah", 31.9, 35.2],
  TK: ["Fakaofo", -9.38, -171.22],
  SZ: ["Mbabane", -26.32, 31.14],
  MO: ["Macau", 22.2, 113.55],
  HK: ["Hong Kong", 22.28, 114.16],
};
const noCapital = ["AQ", "BV", "HM", "UM"];
// The currency that prices are usually in, where several are legal tender.
const usual = { PS: "ILS", PA: "PAB" };
// Currencies that ISO 4217 got after the package of its list was made.
const newer = { XCG: 2 };
// What a second list has otherwise: a fifth is not a decimal.
const fifths = ["MGA", "MRU"];
// Dialling codes that are in use: the Vatican's own, +379, is not.
const dialling = { VA: ["39"] };
// Unions as of January 2026.
const eu = "AT BE BG CY CZ DE DK EE ES FI FR GR HR HU IE IT LT LU LV MT NL PL PT RO SE SI SK".split(" ");
const groups = {
  eu,
  eea: [...eu, "IS", "LI", "NO"],
  schengen: [...eu.filter((c) => !["CY", "IE"].includes(c)), "CH", "IS", "LI", "NO"],
  "euro-area": eu.filter((c) => !["CZ", "DK", "HU", "PL", "RO", "SE"].includes(c)),
};
// Outlines that ISO 3166-1 has under another code, and borders that they lack.
const outlinesOf = { Somaliland: "SO", Kosovo: "RS", "N. Cyprus": "CY", "Cyprus U.N. Buffer Zone": "CY" };
const notBorders = ["BR FR", "FR SR", "AR RU"];
const moreBorders = ["BR GF", "GF SR", "CN MO", "BW ZM"];

// ---------------------------------------------------------------- each fact
const containment = core("territoryContainment").territoryContainment;
const english = require("cldr-localenames-full/main/en/territories.json").main.en.localeDisplayNames.territories;
const symbols = require("cldr-numbers-full/main/en/currencies.json").main.en.numbers.currencies;
const currencyData = core("currencyData").currencyData;
const territoryInfo = core("territoryInfo").territoryInfo;
const list = require("countries-list").countries;
const weekData = core("weekData").weekData;
const measurement = core("measurementData").measurementData.measurementSystem;
const timeData = core("timeData").timeData;
const capitalTowns = new Map(places.filter((t) => t.feature === "PPLC").map((t) => [t.country, [t.longitude, t.latitude]]));

const continentGroups = { "002": "AF", 150: "EU", 142: "AS", "009": "OC", "003": "NA", "005": "SA" };
const continentOf = { AQ: "AN" };
for (const [group, continent] of Object.entries(continentGroups)) {
  const walk = (code) => {
    for (const inner of containment[code]?._contains ?? []) {
      if (/^[A-Z]{2}$/.test(inner)) continentOf[inner] ??= continent;
      else walk(inner);
    }
  };
  walk(group);
}

// currenciesOf lists what is legal tender, the usual one first, then the newest.
function currenciesOf(country) {
  const current = (currencyData.region[country] ?? [])
    .map((entry) => Object.entries(entry)[0])
    .filter(([, span]) => !span._to && span._tender !== "false");
  const weight = ([code, span]) => (code === usual[country] ? "9" : (span._from ?? ""));
  return current.sort((a, b) => weight(b).localeCompare(weight(a))).map(([code]) => code);
}
// minorUnits are the decimals of the currencies of ISO 4217; some, such as gold, have none.
const minorUnits = (() => {
  const list = readFileSync(require.resolve("currency-codes/iso-4217-list-one.xml"), "utf8");
  const of = { ...newer };
  for (const [, code, units] of list.matchAll(/<Ccy>(\w+)<\/Ccy>[^]*?<CcyMnrUnts>([^<]+)</g)) if (units !== "N.A.") of[code] = Number(units);
  for (const [code, { exponent }] of Object.entries(require("@dinero.js/currencies"))) {
    if (code in of && of[code] !== exponent && !fifths.includes(code)) throw new Error(`countries.mjs: ${code} has ${of[code]} decimals, or ${exponent}`);
  }
  return of;
})();

// digitsOf is how many decimals CLDR shows of a currency.
const digitsOf = (currency) => Number((currencyData.fractions[currency] ?? currencyData.fractions.DEFAULT)._digits);

// languagesOf lists the languages that are official somewhere in the country or
// that one in a hundred there speaks, the official and the most spoken first.
const official = ["official", "de_facto_official"];
function languagesOf(country) {
  return Object.entries(territoryInfo[country]?.languagePopulation ?? {})
    .map(([tag, v]) => ({
      tag: tag.replaceAll("_", "-"),
      share: Number(v._populationPercent),
      status: { official: "official", de_facto_official: "official", official_regional: "regional", official_minority: "minority" }[v._officialStatus] ?? "",
      first: official.includes(v._officialStatus),
    }))
    .filter((l) => l.status || l.share >= 1)
    .sort((a, b) => b.first - a.first || b.share - a.share || (a.tag < b.tag ? -1 : 1));
}

// officialOf lists the official languages of a country.
export const officialOf = (country) => languagesOf(country).filter((l) => l.first).map((l) => l.tag);

const neighbours = (() => {
  const { neighbors } = require("topojson-client");
  const shapes = require("world-atlas/countries-10m.json").objects.countries.geometries;
  const code = shapes.map((s) => alpha2[s.id] ?? outlinesOf[s.properties.name] ?? "");
  const pairs = new Set(moreBorders);
  neighbors(shapes).forEach((near, i) => {
    for (const j of near) if (code[i] && code[j] && code[i] < code[j]) pairs.add(`${code[i]} ${code[j]}`);
  });
  for (const pair of notBorders) pairs.delete(pair);
  const of = Object.fromEntries(codes.map((c) => [c, []]));
  for (const pair of pairs) {
    const [a, b] = pair.split(" ");
    of[a].push(b);
    of[b].push(a);
  }
  return of;
})();

function capitalOf(country) {
  if (noCapital.includes(country)) return ["", 0, 0];
  if (capitals[country]) return capitals[country];
  const at = capitalTowns.get(country);
  if (!at) throw new Error(`countries.mjs: ${country} has no capital with coordinates`);
  return [list[country].capital, Number(at[1].toFixed(2)), Number(at[0].toFixed(2))];
}

const days = { mon: "Monday", tue: "Tuesday", wed: "Wednesday", thu: "Thursday", fri: "Friday", sat: "Saturday", sun: "Sunday" };
const weekday = (table, country) => `time.${days[table[country] ?? table["001"]]}`;
const cycles = { H: "h23", h: "h12", K: "h11", k: "h24" };
const q = JSON.stringify;
const strings = (values) => (values.length ? `[]string{${values.map(q).join(", ")}}` : "nil");

function row(iso) {
  const code = iso.alpha2;
  const currencies = currenciesOf(code);
  const languages = languagesOf(code);
  const [capital, latitude, longitude] = capitalOf(code);
  const fields = {
    Code: q(code), Alpha3: q(iso.alpha3), Numeric: q(iso.numeric), Name: q(english[code]), Continent: q(continentOf[code]),
    Capital: q(capital), Latitude: latitude, Longitude: longitude,
    Currency: q(currencies[0] ?? ""), Symbol: q(currencies[0] ? (symbols[currencies[0]]?.symbol ?? currencies[0]) : ""),
    Currencies: strings(currencies),
    Languages: strings(languages.filter((l) => l.first).map((l) => l.tag)),
    Spoken: languages.length ? `[]Spoken{${languages.map((l) => `{${q(l.tag)}, ${q(l.status)}, ${l.share}}`).join(", ")}}` : "nil",
    Dialling: strings((dialling[code] ?? list[code]?.phone ?? []).filter(Boolean).map((n) => `+${n}`)),
    Zones: strings([...(zonesOf[code] ?? [])].sort()),
    FirstDay: weekday(weekData.firstDay, code), WeekendStart: weekday(weekData.weekendStart, code), WeekendEnd: weekday(weekData.weekendEnd, code),
    Measurement: q((measurement[code] ?? measurement["001"]).replace("US", "us").replace("UK", "uk")),
    HourCycle: q(cycles[(timeData[code] ?? timeData["001"])._preferred]),
    Neighbours: strings(neighbours[code].sort()),
    Groups: strings(Object.keys(groups).filter((g) => groups[g].includes(code))),
  };
  return `\t{${Object.entries(fields).filter(([, v]) => v !== '""' && v !== "nil" && v !== 0).map(([k, v]) => `${k}: ${v}`).join(", ")}},`;
}

export function countryTable(version) {
  const used = new Set(codes.flatMap(currenciesOf));
  const shown = [...new Set([...used, ...Object.keys(currencyData.fractions)])]
    .filter((c) => /^[A-Z]{3}$/.test(c) && digitsOf(c) !== 2).sort();
  const everCurrencies = Object.keys(symbols).filter((c) => /^[A-Z]{3}$/.test(c)).sort();
  return `// Code generated by tools/gendata; DO NOT EDIT.

package almanac

import "time"

// DataVersion names the releases that these tables come from.
const DataVersion = ${q(["cldr-core", "iso-3166", "currency-codes", "countries-list", "world-atlas"].map((n) => `${n === "cldr-core" ? "CLDR" : n} ${version(n)}`).join(", "))}

var continents = map[string]string{
${["AF:002", "AN:AQ", "AS:142", "EU:150", "NA:003", "OC:009", "SA:005"].map((p) => `\t${q(p.slice(0, 2))}: ${q(english[p.slice(3)])},`).join("\n")}
}

// currencies are all codes of ISO 4217 that CLDR knows, of today and of before,
// ascending, three letters each.
const currencies = ${q(everCurrencies.join(""))}

// minorUnits are the decimals of the currencies that ISO 4217 gives any, as of ${require("currency-codes").publishDate}.
var minorUnits = map[string]int{
${Object.keys(minorUnits).sort().map((c) => `\t${q(c)}: ${minorUnits[c]},`).join("\n")}
}

// displayDigits are the decimals that CLDR shows of a currency, where these are not two.
var displayDigits = map[string]int{
${shown.map((c) => `\t${q(c)}: ${digitsOf(c)},`).join("\n")}
}

// countries ascends by code.
var countries = []Country{
${[...iso31661].sort((a, b) => (a.alpha2 < b.alpha2 ? -1 : 1)).map(row).join("\n")}
}
`;
}

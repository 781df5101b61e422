// A second opinion on which place a name means, which tests hold the gazetteer against: it
// compares names by Unicode's collation (UTS 10) at the level of base letters, and shares
// nothing with places.mjs but the list. A line has the country, the region that is asked in
// or nothing, the name as somebody may write it, then the place: latitude, longitude,
// people, and how many there are of that name.
import { places, isTown } from "./places.mjs";

const collator = new Intl.Collator("und", { sensitivity: "base" });
const plain = (s) => s.replace(/['’‘ʼʻʹʾʿ`´′]/g, "").replace(/[^\p{L}\p{N}\p{M}]+/gu, " ").trim();
// What places.mjs and the gazetteer know of words is not the collation's: such names are left out.
const special = /^(the|city|town|village|municipality|greater|ville|commune|ciudad|municipio|cidade|citta|comune|stadt|gemeinde|kota|thanh|gorod|город|г|м) | (city|town|village|municipality|shi|si)$|\b(st|saint|sainte|ste|sankt|sint|mt|mount|ft|fort)\b|[市시,(（]/iu;
// The collation takes these for other letters, or for the same ones, than people do who type.
const otherwise = /[^\p{Script=Latin}\p{Script=Cyrillic}\p{Script=Greek}\p{Script=Han}\p{Script=Katakana}\p{Script=Hangul}\p{Script=Arabic}\p{Script=Hebrew} ]|[əƏŋŊ\u0640\u0621-\u0626\u06c0-\u06d5]/u;
const usable = (s) => s.length > 1 && !special.test(s) && !special.test(s.normalize("NFD").replace(/\p{M}/gu, "")) && !otherwise.test(plain(s).normalize("NFC").replace(/\p{M}/gu, ""));

let state = 33;
const random = (n) => {
  state = (Math.imul(state, 1664525) + 1013904223) >>> 0;
  return Math.floor((state / 2 ** 32) * n);
};
const manners = [
  (s) => s, (s) => s.toUpperCase(), (s) => s.toLowerCase(), (s) => s.normalize("NFD"),
  (s) => (/\p{Script=Latin}/u.test(s) ? s.normalize("NFD").replace(/[\u0300-\u036f]/g, "") : s), (s) => s.replaceAll(" ", "-"), (s) => `  ${s} `,
];

// Names that lack such a word are left out too.
const collated = (s) => plain(s.normalize("NFD").replace(/\p{M}/gu, "").toLowerCase());

export function foundNames(codes, regionOf, tried) {
  const lines = [];
  const byCountry = new Map();
  for (const code of codes) {
    const entries = places.filter((p) => p.country === code).flatMap((p) => [
      ...[...new Set([p.name, p.ascii])].map((n) => ({ key: plain(n), own: true, p })),
      ...(isTown(p) ? p.further.map((n) => ({ key: plain(n), own: false, p })) : []),
    ]);
    entries.longer = new Set(entries.filter((e) => special.test(e.key)).map((e) => collated(e.key.replace(special, "").replace(/^(of|de|di|pho) /iu, ""))));
    byCountry.set(code, entries.sort((a, b) => collator.compare(a.key, b.key)));
  }
  const all = [...byCountry.values()];
  const total = all.reduce((sum, e) => sum + e.length, 0);
  while (lines.length < tried) {
    let at = random(total), entries = all[0];
    for (entries of all) {
      if (at < entries.length) break;
      at -= entries.length;
    }
    const drawn = entries[at];
    if (!usable(drawn.key)) continue;
    const region = random(2) ? regionOf(drawn.p) : "";
    const name = manners[random(manners.length)](drawn.key);
    const key = plain(name);
    let low = 0, high = entries.length;
    while (low < high) {
      const middle = (low + high) >> 1;
      if (collator.compare(entries[middle].key, key) < 0) low = middle + 1;
      else high = middle;
    }
    const same = [];
    for (; low < entries.length && collator.compare(entries[low].key, key) === 0; low++) same.push(entries[low]);
    const sure = (e) => !region || regionOf(e.p) === region, open = (e) => !regionOf(e.p);
    const choices = [true, false].flatMap((own) => [sure, open].map((fits) => same.filter((e) => e.own === own && fits(e))));
    const meant = [...new Set((choices.find((c) => c.length) ?? []).map((e) => e.p))].sort((a, b) => b.population - a.population);
    if (entries.longer.has(collated(key))) continue;
    if (meant.length === 0) throw new Error(`found.mjs: ${name} is not found where it was drawn`);
    if (meant[1]?.population === meant[0].population) continue;
    const [p] = meant;
    lines.push([p.country, region, name, p.latitude.toFixed(3), p.longitude.toFixed(3), p.population, meant.length].join("\t"));
  }
  return lines.join("\n") + "\n";
}

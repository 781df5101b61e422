// A second opinion on how locales write times and prices, which tests hold the service
// against: ICU's, as Node.js has it, where that is of the same CLDR release as the habits.
import { createRequire } from "node:module";
import { locales } from "./locales.mjs";

const require = createRequire(import.meta.url);
const release = require("cldr-core/package.json").version.split(".")[0];
export const isSameRelease = process.versions.cldr?.split(".")[0] === release;

const times = ["2027-06-12T08:00Z", "2026-10-25T00:00Z", "2026-01-01T00:05Z", "2026-02-28T03:30Z", "2026-09-05T12:00Z", "2026-11-14T15:45Z", "2026-12-31T20:59Z", "2027-03-03T23:59Z"];
const prices = [["0", "EUR"], ["5", "USD"], ["-1234.5", "NOK"], ["1234.5", "CHF"], ["12345.678", "EUR"], ["-98765432.1", "JPY"], ["1234567.89", "INR"], ["999.999", "GBP"]];

// writtenByICU gives lines of the locale, a time or a price, and how it is written.
export function writtenByICU() {
  const lines = [];
  for (const tag of locales) {
    if (tag === "root" || Intl.DateTimeFormat.supportedLocalesOf(tag).length === 0) continue;
    const dates = new Intl.DateTimeFormat(tag, { dateStyle: "full", timeStyle: "short", timeZone: "UTC", calendar: "gregory" });
    if (dates.resolvedOptions().locale !== tag) continue; // of another locale
    for (const time of times) lines.push([tag, time, "", dates.format(new Date(time))]);
    for (const [amount, currency] of prices) {
      lines.push([tag, amount, currency, new Intl.NumberFormat(tag, { style: "currency", currency }).format(amount)]);
    }
  }
  return lines.map((l) => l.join("\t")).join("\n") + "\n";
}

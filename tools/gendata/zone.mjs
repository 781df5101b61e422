// The zones of places: the one that GeoNames has, or the nearest by the shapes of zones
// where that is none of the place's own country, by the tz database's list of its zones.
import { createRequire } from "node:module";

const require = createRequire(import.meta.url);
const lookup = require("@photostructure/tz-lookup");
const timezones = require("cldr-bcp47/bcp47/timezone.json").keyword.u.tz;

// named gives the name in use for each name that a zone ever had.
export const named = new Map();
export const zonesOf = {};
for (const [id, z] of Object.entries(timezones)) {
  if (id.startsWith("_") || z._deprecated || !z._alias) continue;
  const name = z._iana ?? z._alias.split(" ")[0];
  for (const alias of z._alias.split(" ")) named.set(alias, name);
  if (name.includes("/") && !name.startsWith("Etc/")) (zonesOf[z._region ?? id.slice(0, 2).toUpperCase()] ??= []).push(name);
}

const zoneAt = (latitude, longitude) => {
  const zone = lookup(Math.max(-89.99, Math.min(89.99, latitude)), ((longitude + 540) % 360) - 180);
  return named.get(zone) ?? zone;
};

// Zones that are newer than GeoNames' list of places, or narrower than what it says.
const rather = [
  "Africa/Ceuta", "America/Ciudad_Juarez", "America/Coyhaique", "America/Indiana/Vincennes", "America/Matamoros", "America/Ojinaga",
  "Asia/Qyzylorda",
];

// tz gives the IANA zone of a place. It throws where no zone of its country is near.
export function tz({ latitude, longitude, country, name, zone: listed }) {
  const own = zonesOf[country] ?? [];
  if (own.length === 1) return own[0];
  const zone = zoneAt(latitude, longitude);
  if (own.includes(zone) && rather.includes(zone)) return zone;
  const known = named.get(listed) ?? listed;
  if (own.includes(known) || own.length === 0) return known;
  // Rings around the point, a fiftieth of a degree apart, until one touches a zone of the country.
  const narrow = Math.cos((latitude * Math.PI) / 180);
  for (let ring = 0; ring < 20; ring += Math.max(0.02, ring / 50)) {
    for (let bearing = 0; bearing < 360; bearing += 5) {
      const turn = (bearing * Math.PI) / 180;
      const near = zoneAt(latitude + ring * Math.cos(turn), longitude + (ring * Math.sin(turn)) / narrow);
      if (own.includes(near)) return near;
    }
  }
  throw new Error(`zone.mjs: no zone of ${country} is near ${name} at ${latitude}, ${longitude}, which lies in ${zone}`);
}

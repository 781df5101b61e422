// The zones of towns: nearest by the shapes of zones, but always of the town's own
// country, whose list is the tz database's. The shapes are coarse: at borders a point
// may lie in the neighbour's zone, and islands in the sea's.
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

// Reviewed: towns beside a border of zones, on whose wrong side the shapes have them.
const reviewed = {
  "BR Mineiros": "America/Sao_Paulo",
  "BR Paranaíba": "America/Campo_Grande",
  "BR Aparecida do Taboado": "America/Campo_Grande",
  "CD Ilebo": "Africa/Lubumbashi",
  "ID Amuntai": "Asia/Makassar",
  "ID Wongsorejo": "Asia/Jakarta",
  "MX Nuevo Casas Grandes": "America/Chihuahua",
  "MX Ixtlán del Río": "America/Mazatlan",
  "MX Pueblo Nuevo": "America/Monterrey",
  "RU Nikolayevsk-on-Amure": "Asia/Vladivostok",
  "US Williston": "America/Chicago",
  "US Yuma": "America/Phoenix",
};

// tz gives the IANA zone of a town that lies in a country, at a point in degrees.
export function tz(latitude, longitude, country, name) {
  const own = zonesOf[country] ?? [];
  if (reviewed[`${country} ${name}`]) return reviewed[`${country} ${name}`];
  const zone = zoneAt(latitude, longitude);
  if (own.length === 0 || own.includes(zone)) return zone;
  if (own.length === 1) return own[0];
  // Rings around the point, a fiftieth of a degree apart, until one touches a zone of the country.
  const narrow = Math.cos((latitude * Math.PI) / 180);
  for (let ring = 0.02; ring < 20; ring += Math.max(0.02, ring / 50)) {
    for (let bearing = 0; bearing < 360; bearing += 5) {
      const turn = (bearing * Math.PI) / 180;
      const near = zoneAt(latitude + ring * Math.cos(turn), longitude + (ring * Math.sin(turn)) / narrow);
      if (own.includes(near)) return near;
    }
  }
  throw new Error(`zone.mjs: no zone of ${country} is near ${latitude}, ${longitude}, which lies in ${zone}`);
}

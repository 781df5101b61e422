import { createRequire } from "node:module";

const lookup = createRequire(import.meta.url)("@photostructure/tz-lookup");

// tz gives the IANA zone of a point in degrees.
export const tz = (latitude, longitude) => lookup(latitude, longitude);

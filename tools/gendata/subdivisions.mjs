// The subdivisions of ISO 3166-2, with what is newer than the list: Norway's counties
// since 2024.
import { iso31662 } from "iso-3166/2.js";

const gone = ["NO-30", "NO-38", "NO-54"];
const newer = {
  "NO-31": "Østfold", "NO-32": "Akershus", "NO-33": "Buskerud", "NO-39": "Vestfold", "NO-40": "Telemark", "NO-55": "Troms", "NO-56": "Finnmark",
};
export const subdivisionList = [
  ...iso31662.filter((r) => !gone.includes(r.code)),
  ...Object.entries(newer).map(([code, name]) => ({ code, name, parent: code.slice(0, 2) })),
];

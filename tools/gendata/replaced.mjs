// Subdivision codes of ISO 3166-2 that were replaced, and by which: CLDR knows some, the
// others are reviewed here. Where a subdivision was parted, all its successors are named.
import { createRequire } from "node:module";
import { subdivisionList } from "./subdivisions.mjs";

const require = createRequire(import.meta.url);
const aliases = require("cldr-core/supplemental/aliases.json").supplemental.metadata.alias.subdivisionAlias;
const current = new Set(subdivisionList.map((r) => r.code));

const reviewed = {
  AL: {
    BR: "01", BU: "09", DI: "09", DL: "12", DR: "02", DV: "06", EL: "03", ER: "06", FR: "04", GJ: "05", GR: "03", HA: "07", KA: "11", KB: "08",
    KC: "01", KO: "06", KR: "02", KU: "07", LB: "03", LE: "08", LU: "04", MK: "04", MM: "10", MR: "08", MT: "09", PG: "06", PQ: "03", PR: "05",
    PU: "10", SH: "10", SK: "01", SR: "12", TE: "05", TP: "07", TR: "11", VL: "12",
  },
  CD: { BN: "KG KL MN", KA: "HK HL LU TA", KW: "KC KS", OR: "BU HU IT TO" },
  CN: { 15: "NM" },
  EE: { 49: "50", 51: "52", 57: "56", 59: "60", 65: "64", 67: "68", 70: "71", 78: "79", 82: "81", 86: "87" },
  FI: { AL: "01" },
  FR: {
    75: "75C", COR: "20R", H: "20R", GF: "973", GP: "971", GUA: "971", LRE: "974", MAY: "976", MQ: "972", RE: "974", YT: "976",
  },
  GB: {
    ANT: "ANN", ARD: "AND", ARM: "ABC", BLA: "MEA", BLY: "CCG", BMH: "BCP", BNB: "ABC", CGV: "ABC", CKF: "MEA", CKT: "MUL", CLR: "CCG",
    CSR: "BFS LBC", DGN: "MUL", DOW: "NMD", DRY: "DRS", FER: "FMO", LMV: "CCG", LRN: "MEA", LSB: "LBC", MFT: "MUL", MYL: "CCG", NDN: "AND",
    NTA: "ANN", NTH: "NNH WNH", NYM: "NMD", OMH: "FMO", POL: "BCP", STB: "DRS",
  },
  GR: {
    "01": "G", "03": "H", "04": "H", "05": "H", "06": "H", "07": "H", 11: "J", 12: "J", 13: "G", 14: "G", 15: "J", 16: "J", 17: "J", 21: "F",
    22: "F", 23: "F", 24: "F", 31: "D", 32: "D", 33: "D", 34: "D", 41: "E", 42: "E", 43: "E", 44: "E", 51: "C", 52: "A", 53: "B", 54: "B",
    55: "A", 56: "C", 57: "B", 58: "C", 59: "B", 61: "B", 62: "B", 63: "C", 64: "B", 71: "A", 72: "A", 73: "A", 81: "L", 82: "L", 83: "K",
    84: "K", 85: "K", 91: "M", 92: "M", 93: "M", 94: "M", A1: "I",
  },
  IN: { CT: "CG", DD: "DH", DN: "DH", OR: "OD", TG: "TS", UL: "UK", UT: "UK" },
  IT: { AO: "23", CI: "SU", OG: "NU", OT: "SS", VS: "SU" },
  KZ: {
    AKM: "11", AKT: "15", ALA: "75", ALM: "19 33", AST: "71", ATY: "23", KAR: "35 62", KUS: "39", KZY: "43", MAN: "47", PAV: "55", SEV: "59",
    SHY: "79", VOS: "10 63", YUZ: "61", ZAP: "27", ZHA: "31",
  },
  LV: {
    "001": "047 073", "003": "112", "004": "042", "005": "054", "006": "050", "008": "022", "009": "007 094", "010": "026", "012": "062",
    "013": "052", "014": "015", "017": "113", "018": "088", "019": "113", "020": "011", "021": "059", "023": "058", "024": "047", "025": "111",
    "027": "097", "028": "112", "029": "099", "030": "059", "031": "080", "032": "112", "034": "016", "035": "067", "036": "111",
    "037": "091", "038": "002", "039": "022", "040": "099", "043": "099", "044": "058", "045": "113", "046": "002", "048": "091", "049": "042",
    "051": "067", "053": "067", "055": "022", "057": "059", "060": "113", "061": "091", "063": "097", "064": "113", "065": "002", "066": "112",
    "069": "041", "070": "022", "071": "112", "072": "002", "074": "112", "075": "022", "076": "094", "078": "073", "079": "097", "081": "112",
    "082": "015", "083": "016", "084": "113", "085": "042", "086": "054", "090": "089", 92: "002", 93: "050", 95: "080", 96: "113",
    98: "026", 100: "112", 103: "073", 104: "022", 105: "016", 107: "042", 108: "015", 109: "077", 110: "058", JKB: "042", VMR: "113",
  },
  MX: { DIF: "CMX" },
  NO: {
    "01": "31", "02": "32", "04": "34", "05": "34", "06": "33", "07": "39", "08": "40", "09": "42", 10: "42", 12: "46", 14: "46", 16: "50",
    17: "50", 19: "55", 20: "56", 23: "50", 30: "31 32 33", 38: "39 40", 54: "55 56",
  },
  NP: {
    1: "P2 P3", 2: "P5 P6", 3: "P4 P5", 4: "P1 P2", 5: "P7", BA: "P3", BH: "P5 P6", DH: "P4", GA: "P4", JA: "P2 P3", KA: "P6", KO: "P1",
    LU: "P4 P5", MA: "P7", ME: "P1", NA: "P2 P3", RA: "P5 P6", SA: "P1 P2", SE: "P7",
  },
  ZA: { GT: "GP", NL: "KZN", NP: "LP" },
};

// replacedCodes gives lines of the code and its successors.
export function replacedCodes() {
  const list = new Map();
  const code = (id) => `${id.slice(0, 2)}-${id.slice(2)}`.toUpperCase();
  for (const [id, { _replacement }] of Object.entries(aliases)) {
    const to = _replacement.split(" ").map(code);
    if (!current.has(code(id)) && to.every((c) => current.has(c))) list.set(code(id), to);
  }
  for (const [country, codes] of Object.entries(reviewed)) {
    for (const [old, successors] of Object.entries(codes)) {
      const from = `${country}-${/^\d\d$/.test(old) && country === "LV" ? `0${old}` : old}`;
      const to = successors.split(" ").map((c) => `${country}-${c}`);
      const wrong = current.has(from) ? from : to.find((c) => !current.has(c));
      if (wrong) throw new Error(`replaced.mjs: ${from} is replaced by ${to}: ${wrong} is ${wrong === from ? "in use" : "no code"}`);
      list.set(from, to);
    }
  }
  return [...list].sort(([a], [b]) => (a < b ? -1 : 1)).map(([from, to]) => `${from}\t${to.join(" ")}\n`).join("");
}

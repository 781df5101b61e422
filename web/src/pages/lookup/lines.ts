import { dsvFormat } from "d3-dsv";

/** A Plan says how the lines of a file are read. */
export interface Plan {
  separator: "" | "," | "\t" | ";";
  /** head names the columns; it is empty where the first line is data. */
  head: string[];
  column: number;
}

const looksLikeAddress = (text: string) =>
  /^["'[]?\s*(\d{1,3}(\.\d{1,3}){3}|[0-9a-f]*:[0-9a-f:.]+)/i.test(text) || /\.arpa\.?$/i.test(text);

/** cells parts a line; separators within quotes part nothing (RFC 4180). */
export const cells = (line: string, separator: Plan["separator"]): string[] =>
  separator === ""
    ? [line.trim()]
    : (dsvFormat(separator).parseRows(line.trim())[0] ?? []).map((cell) =>
        cell.trim().replace(/^"(.*)"$/, "$1"),
      );

/** planOf finds the column of a text that holds addresses, and whether a head names it. */
export function planOf(lines: string[]): Plan {
  const some = lines.slice(0, 200);
  const separator =
    (["\t", ",", ";"] as const).find((s) => some.filter((l) => l.includes(s)).length > some.length / 2) ?? "";
  const rows = some.map((l) => cells(l, separator));
  const width = Math.max(...rows.map((r) => r.length), 1);
  let column = 0;
  let most = -1;
  for (let i = 0; i < width; i++) {
    const n = rows.filter((r) => looksLikeAddress(r[i] ?? "")).length;
    if (n > most) [column, most] = [i, n];
  }
  const first = rows[0] ?? [];
  const headed = separator !== "" && rows.length > 1 && !first.some(looksLikeAddress);
  return { separator, head: headed ? first : [], column };
}

/** how words a plan. */
export function how(plan: Plan): string {
  if (plan.separator === "") return "read as one address a line";
  const name = plan.head[plan.column] ?? `column ${plan.column + 1}`;
  const kind = plan.separator === "\t" ? "tabs" : plan.separator === "," ? "commas" : "semicolons";
  return `read as columns parted by ${kind}${plan.head.length ? " with a head" : ""}, address in “${name}”`;
}

/** reasonKind takes what differs from line to line out of a reason. */
export const reasonKind = (reason: string) =>
  reason.replace(/^"(?:[^"\\]|\\.)*": /, "").replace(/"[^"]*"/g, "…");

/** Numbers and offsets from UTC begin like a formula and are none. */
const harmless = /^[+-]\d+(\.\d+|:\d\d)?$/;

/** csvCell quotes a cell, and keeps a spreadsheet from taking it for a formula, as the service's own exports do. */
export function csvCell(value: string | number | null): string {
  if (value === null) return "";
  if (typeof value === "number") return String(value);
  const safe = /^[=+\-@＝＋－＠\t\r]/.test(value) && !harmless.test(value) ? `'${value}` : value;
  return /[",\r\n]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe;
}

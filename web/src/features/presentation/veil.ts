import { hide, show } from "./hidden";
import { maskText } from "./mask";

/**
 * While presenting, addresses are hidden where they come in, not where they are drawn: what no component has, none can
 * show, copy or save. A value that is an address and nothing else keeps an opaque code behind its masked form, which
 * this tab alone can turn back when it asks the service about it.
 */
const stored = "ep-presenting";
let on = localStorage.getItem(stored) === "yes";

export const isVeiled = () => on;

export function setVeiled(next: boolean) {
  on = next;
  localStorage.setItem(stored, next ? "yes" : "no");
}

/** plain values are addresses or prefixes as the service writes them. */
const plain = /^(?:\d{1,3}(?:\.\d{1,3}){3}(?:\/\d{1,2})?|(?=[^:]*:)[0-9a-f:.]+(?:%\w+)?(?:\/\d{1,3})?)$/i;

/** left are values that look like something to hide and are none: ids, times, editions. */
const left = /^(?:[0-9a-f]{8}-[0-9a-f-]{27}|\d{4}-\d\d-\d\d(?:[T -].*)?|\d\d:\d\d(?::\d\d)?)$/i;

function veilText(text: string): string {
  if (left.test(text)) return text;
  const masked = maskText(text);
  return masked !== text && plain.test(text) ? masked + hide(text) : masked;
}

/** veil hides every address in a value of an answer; of the owner's attributes, in names and numbers too. */
export function veil(value: unknown, attributes = false): unknown {
  if (typeof value === "string") return veilText(value);
  if (typeof value === "number") return attributes && value >= 2 ** 24 ? "••••" : value;
  if (Array.isArray(value)) return value.map((v) => veil(v, attributes));
  if (value === null || typeof value !== "object") return value;
  return Object.fromEntries(
    Object.entries(value).map(([key, v]) => [
      attributes ? maskText(key) : key,
      veil(v, attributes || key === "attributes"),
    ]),
  );
}

/** veilJSON is veil of a text that is JSON, and of running text where it is none. */
export function veilJSON(text: string): string {
  try {
    return JSON.stringify(veil(JSON.parse(text)));
  } catch {
    return maskText(text);
  }
}

const code = /[0-9a-f.:/•]*~([0-9a-z]+)/gi;

/** unveil turns the codes in what is sent back into what they stand for. */
export const unveil = (text: string) =>
  text.replace(code, (found, name: string) => show(`~${name}`) || found);

/** unveilURL is unveil of each part of an address of the service. */
export function unveilURL(address: string): string {
  const url = new URL(address);
  url.pathname = url.pathname
    .split("/")
    .map((part) => encodeURIComponent(unveil(decodeURIComponent(part))))
    .join("/");
  url.search = new URLSearchParams(
    [...url.searchParams].map(([k, v]) => [k, unveil(v)] as [string, string]),
  ).toString();
  return url.href;
}

/** shown is a veiled value without its code. */
export const shown = (text: string) => (text.includes("•") ? text.replace(/~[0-9a-z]+/g, "") : text);

/** codeOf is the code of a veiled value, "" where it has none. */
export const codeOf = (text: string) => (text.includes("•") ? (/~[0-9a-z]+/.exec(text)?.[0] ?? "") : "");

/** What stands for what is hidden. */
const hidden = "••••";

/** maskAddress hides the host part of an address or prefix: 198.18.••.••, 3fff:1a0:••••. */
export function maskAddress(text: string): string {
  if (text.includes(":")) {
    const groups = text.replace(/^\[/, "").split(":");
    return `${groups[0]}:${groups[1] || "0"}:${hidden}`;
  }
  const parts = text.split(".");
  return parts.length === 4 ? `${parts[0]}.${parts[1]}.••.••` : hidden;
}

const octet = String.raw`(?:0x[0-9a-f]{1,8}|\d{1,4})`;
const point = String.raw`(?:\.|%2e|\[\.\]|\(\.\)|\[dot\]|\(dot\)|[。．｡])`;
const colon = "(?::|%3a)";
const group = "[0-9a-f]{1,4}";

/** Times such as 07:42:08 are no addresses. */
const isTime = (found: string) => /^\d{2}:\d{2}:\d{2}/.test(found) || /^\d{1,2}:\d{2}$/.test(found);

const isV4Number = (digits: string) => {
  const n = Number(digits);
  return n >= 2 ** 24 && n < 2 ** 32;
};

/**
 * Each spelling of an address, e-mail address or visitor's host name, and what stands for it. Plain spellings keep
 * their beginning, as on the screen; all others are hidden whole. The order matters: a later rule sees what the
 * earlier ones left.
 */
const rules: [RegExp, string | ((found: string) => string)][] = [
  // E-mail addresses.
  [/[\p{L}\p{N}._%+'-]+(?:@|%40)[\p{L}\p{N}-]+(?:\.[\p{L}\p{N}-]+)+/giu, hidden],
  // Reverse names.
  [/(?:[0-9a-z-]+[.])*(?:in-addr|ip6)\.arpa\.?|(?<![\w.])(?:[0-9a-f]\.){8,}[0-9a-f]?/gi, hidden],
  // Host names with an address in them, with dashes or underscores, and addresses that are written so.
  [
    /[\w.-]*?(?<!\d)\d{1,3}(?:[-_]\d{1,3}){3}(?!\d)[\w.-]*/g,
    (found) => (/^\d{4}-\d\d-\d\d/.test(found) ? found : hidden),
  ],
  [new RegExp(String.raw`[\w.]*(?<![0-9a-z])(?:${group}-){7}${group}(?![0-9a-z])[\w.-]*`, "gi"), hidden],
  [
    new RegExp(
      String.raw`(?<![0-9a-z])(?=[0-9a-f-]*--)(?:${group})(?:--?${group}){1,7}(?![0-9a-z])[\w.-]*`,
      "gi",
    ),
    hidden,
  ],
  // IPv6, also in brackets, with a zone, a prefix length, or an IPv4 address at its end.
  [
    new RegExp(
      String.raw`(?<![\w:])\[?(?:${group}${colon}){2,7}(?:${colon}|[0-9a-f.:]|%3a)*(?:(?:%25|%)[0-9a-z]+)?(?:\/\d{1,3})?|(?<![\w:])\[?(?:${group})?${colon}${colon}(?:[0-9a-f.:]|%3a)*(?:(?:%25|%)[0-9a-z]+)?(?:\/\d{1,3})?`,
      "gi",
    ),
    (found) =>
      isTime(found) || /^:+$/.test(found) ? found : /%3a/i.test(found) ? hidden : maskAddress(found),
  ],
  // IPv4, plain.
  [/(?<![\w.])\d{1,3}(?:\.\d{1,3}){3}(?![\w])(?:\/\d{1,2})?/g, maskAddress],
  // IPv4 in other spellings: octal, hexadecimal, percent-encoded, defanged, with fewer parts.
  [new RegExp(String.raw`(?<![\w])${octet}(?:${point}${octet}){3}(?![\w])(?:\/\d{1,2})?`, "gi"), hidden],
  [
    /(?<![\w.])(?:0x[0-9a-f]{1,2}|\d{1,3})\.(?:(?:0x[0-9a-f]{1,2}|\d{1,3})\.(?:\d{4,5}|0x[0-9a-f]{3,4})|\d{6,8}|0x[0-9a-f]{5,6})(?![\w.])/gi,
    hidden,
  ],
  // One number: decimal, octal, hexadecimal, and those of IPv6.
  [/(?<![\w.,])\d{8,10}(?![\w.,]*\d)/g, (found) => (isV4Number(found) ? hidden : found)],
  [/(?<![\w.-])(?:0[0-7]{9,11}|0x[0-9a-f]{7,8}|0x[0-9a-f]{16,32}|\d{20,39})(?!\w)/gi, hidden],
  [/(?<![\w-])(?=[a-f]*\d)(?:[0-9a-f]{8}|[0-9a-f]{32})(?![\w-])/gi, hidden],
  // Other names of visitors' machines: of three labels and more, with a number in the first.
  [/(?<![\w.@-])(?=[a-z-]*\d)[a-z][\w-]*(?:\.[a-z][\w-]*){2,}/gi, hidden],
];

const ids = /([0-9a-f]{8}-[0-9a-f]{4}-[1-8][0-9a-f]{3}-[0-9a-f]{4}-[0-9a-f]{12})/i;

/** maskText hides every address, in whatever spelling, every e-mail address and host name of a visitor in running text. UUIDs stay. */
export function maskText(text: string): string {
  return text
    .split(ids)
    .map((part, i) =>
      i % 2 === 1
        ? part
        : rules.reduce((masked, [spelling, stand]) => masked.replace(spelling, stand as string), part),
    )
    .join("");
}

/** hasAddress says whether there is something to hide in a text. */
export const hasAddress = (text: string) => maskText(text) !== text;

/** shortenV6 keeps the first two groups and the last: 2001:db8::1f. */
export function shortenV6(text: string): string {
  const groups = text.split(":").filter(Boolean);
  return groups.length > 4 ? `${groups[0]}:${groups[1]}::${groups[groups.length - 1]}` : text;
}

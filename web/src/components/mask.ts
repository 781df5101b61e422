/** maskAddress hides the host part of an address or prefix: 198.18.••.••, 3fff:1a0:••••. */
export function maskAddress(text: string): string {
  if (text.includes(":")) {
    const groups = text.split(":");
    return `${groups[0]}:${groups[1] || "0"}:••••`;
  }
  const parts = text.split(".");
  return parts.length === 4 ? `${parts[0]}.${parts[1]}.••.••` : "••••";
}

const v4 = /\b\d{1,3}(?:\.\d{1,3}){3}(?:\/\d{1,2})?/g;
const v6 =
  /(?<![\w:])(?:[0-9a-f]{1,4}:){2,7}[0-9a-f:.]*(?:\/\d{1,3})?|(?<![\w:])[0-9a-f]{0,4}::[0-9a-f:.]*(?:\/\d{1,3})?/gi;

/** maskText hides every address and prefix in running text. Times such as 07:42:08 stay. */
export function maskText(text: string): string {
  return text
    .replace(v6, (found) => (/^\d{2}:\d{2}:\d{2}/.test(found) ? found : maskAddress(found)))
    .replace(v4, maskAddress);
}

/** shortenV6 keeps the first two groups and the last: 2001:db8::1f. */
export function shortenV6(text: string): string {
  const groups = text.split(":").filter(Boolean);
  return groups.length > 4 ? `${groups[0]}:${groups[1]}::${groups[groups.length - 1]}` : text;
}

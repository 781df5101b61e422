/**
 * What is hidden while presenting, by opaque codes that this tab alone can turn back. Those that stand in the page's
 * address are kept for a reload.
 */
const inStorage = (code: string) => `ep-masked-${code}`;
const byCode = new Map<string, string>();
const byText = new Map<string, string>();

function remember(code: string, text: string): string {
  byCode.set(code, text);
  byText.set(text, code);
  return code;
}

/** hide gives what stands for a text: ~ and a code. */
export function hide(text: string): string {
  if (text.startsWith("~")) return text;
  const code =
    byText.get(text) ?? remember(crypto.getRandomValues(new Uint32Array(1))[0]?.toString(36) ?? "", text);
  return `~${code}`;
}

/** show turns what hide gave back; "" where this tab does not know it. Other texts stay. */
export function show(text: string): string {
  if (!text.startsWith("~")) return text;
  const code = text.slice(1);
  return byCode.get(code) ?? sessionStorage.getItem(inStorage(code)) ?? "";
}

/** keep has a code that stands in the page's address survive a reload. */
export function keep(text: string) {
  const known = text.startsWith("~") ? byCode.get(text.slice(1)) : undefined;
  if (known !== undefined) sessionStorage.setItem(inStorage(text.slice(1)), known);
}

/**
 * Addresses in the console's own routes. While presenting, a route carries an
 * opaque key instead, which this tab alone can turn back.
 */
const key = (code: string) => `ep-masked-${code}`;

/** hide gives what stands for an address in a route. */
export function hide(address: string, presenting: boolean): string {
  if (!presenting || address.startsWith("~")) return address;
  for (let i = 0; i < sessionStorage.length; i++) {
    const name = sessionStorage.key(i) ?? "";
    if (name.startsWith(key("")) && sessionStorage.getItem(name) === address)
      return `~${name.slice(key("").length)}`;
  }
  const code = crypto.getRandomValues(new Uint32Array(1))[0]?.toString(36) ?? "";
  sessionStorage.setItem(key(code), address);
  return `~${code}`;
}

/** show turns what stands in a route back into the address; "" where this tab does not know it. */
export function show(param: string): string {
  return param.startsWith("~") ? (sessionStorage.getItem(key(param.slice(1))) ?? "") : param;
}

/** lookupPath is the route of an address's card. */
export const lookupPath = (address: string, presenting: boolean) =>
  `/lookup?address=${encodeURIComponent(hide(address, presenting))}`;

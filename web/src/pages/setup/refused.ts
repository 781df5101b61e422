const tallest = 20; // pixels

/** barHeight is how tall a bar is: by the square root, so that few are seen beside many; 0 for none. */
export function barHeight(n: number, most: number): number {
  return n === 0 ? 0 : Math.max(2, Math.round(tallest * Math.sqrt(n / most)));
}

const kept = "ep-refused-aside";

function aside(): Record<string, number> {
  try {
    return JSON.parse(localStorage.getItem(kept) ?? "{}") as Record<string, number>;
  } catch {
    return {};
  }
}

/** isAside says whether a row was put away, and has not doubled since. */
export function isAside(key: string, count: number): boolean {
  const then = aside()[key];
  return then !== undefined && count < 2 * Math.max(1, then);
}

/** putAside puts a row away in this browser. Only the newest hundred are remembered. */
export function putAside(key: string, count: number): void {
  const all = Object.entries({ ...aside(), [key]: count }).slice(-100);
  localStorage.setItem(kept, JSON.stringify(Object.fromEntries(all)));
}

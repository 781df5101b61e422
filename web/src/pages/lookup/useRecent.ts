import { useEffect, useMemo } from "react";

const key = "ep-recent";
const most = 4;

function read(): string[] {
  try {
    const list: unknown = JSON.parse(sessionStorage.getItem(key) ?? "[]");
    return Array.isArray(list) ? list.filter((t): t is string => typeof t === "string") : [];
  } catch {
    return [];
  }
}

/** useRecent keeps the last addresses that were asked for, in this tab only, and gives those before the current one. */
export function useRecent(current: string | null): string[] {
  useEffect(() => {
    if (!current || current.includes("•")) return; // hidden ones are of no use later
    const next = [current, ...read().filter((t) => t !== current)].slice(0, most);
    sessionStorage.setItem(key, JSON.stringify(next));
  }, [current]);
  return useMemo(() => read().filter((t) => t !== current), [current]).slice(0, most - 1);
}

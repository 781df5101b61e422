import { useEffect, useState } from "react";

/** useNarrow says whether the window is at most so many pixels wide, and follows it. */
export function useNarrow(width: number): boolean {
  const query = `(max-width: ${width}px)`;
  const [narrow, setNarrow] = useState(() => window.matchMedia(query).matches);
  useEffect(() => {
    const list = window.matchMedia(query);
    const follow = (e: MediaQueryListEvent) => setNarrow(e.matches);
    list.addEventListener("change", follow);
    return () => list.removeEventListener("change", follow);
  }, [query]);
  return narrow;
}

/** The widths that pages change at, as in the style sheets. */
export const phone = 700;
export const tablet = 1100;
export const smallTablet = 900;

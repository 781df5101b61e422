import { geoNaturalEarth1, geoPath, type GeoProjection } from "d3-geo";
import { zoomIdentity, type ZoomTransform } from "d3-zoom";
import { useCallback, useEffect, useMemo, useRef } from "react";
import type { Place } from "../../api/client";
import { graticule, useOutlines } from "./world";

/** Free is what floating panels leave of the map, in pixels from each side. */
export interface Free {
  right: number;
  bottom: number;
}

/** shadeOf gives one of five shades, from few to many, for a share of the most; each step is twice the one before. */
export const shadeOf = (share: number) => Math.max(1, Math.min(5, 5 + Math.floor(Math.log2(share) + 1e-9)));

interface Counted {
  x: number;
  y: number;
  n: number;
}

/** span gives the bounds of a coordinate that leave a share of the visits out at each end. */
function span(points: Counted[], of: (p: Counted) => number, tail: number): [number, number] {
  const sorted = [...points].sort((a, b) => of(a) - of(b));
  const all = sorted.reduce((sum, p) => sum + p.n, 0);
  const at = (share: number) => {
    let sum = 0;
    for (const p of sorted) if ((sum += p.n) >= share * all) return of(p);
    return 0;
  };
  return [at(tail), at(1 - tail)];
}

/** useLand gives the projection of a map, and the shapes of the land at a zoom, with shades of countries where shares are given. */
export function useLand(
  width: number,
  height: number,
  free: Free,
  zoom: number,
  shares: Map<string, number> | undefined,
) {
  const world = useOutlines("110m");
  const continent = useOutlines("50m", zoom > 2.2);
  const outlines = (zoom > 2.2 && continent) || world;

  const projection = useMemo(() => {
    const room: [[number, number], [number, number]] = [
      [24, 16],
      [Math.max(200, width - free.right - 24), Math.max(120, height - free.bottom - 16)],
    ];
    return geoNaturalEarth1().fitExtent(room, { type: "Sphere" });
  }, [width, height, free.right, free.bottom]);

  const paths = useMemo(() => {
    const path = geoPath(projection).digits(2);
    return {
      globe: path({ type: "Sphere" }) ?? "",
      lines: path(graticule) ?? "",
      land: outlines ? (path(outlines.land) ?? "") : "",
      borders: outlines?.borders ? (path(outlines.borders) ?? "") : "",
    };
  }, [projection, outlines]);

  const shaded = useMemo(() => {
    if (!shares || !outlines) return [];
    const path = geoPath(projection).digits(2);
    return outlines.countries.flatMap((c) => {
      const share = shares.get(c.code);
      return share ? [{ code: c.code, step: shadeOf(share), d: path(c.shape) ?? "" }] : [];
    });
  }, [shares, outlines, projection]);

  return { projection, paths, shaded };
}

/** useFrame shows most visits at first, and gives what shows all of them. */
export function useFrame(
  places: Place[],
  projection: GeoProjection,
  width: number,
  height: number,
  free: Free,
  moveTo: (t: ZoomTransform) => void,
) {
  /** frame shows the places between two quantiles of the visits, from each side. */
  const frame = useCallback(
    (tail: number) => {
      const points = places.flatMap((p) => {
        const xy = projection([p.longitude, p.latitude]);
        return xy ? [{ x: xy[0], y: xy[1], n: p.visits }] : [];
      });
      if (points.length === 0 || !width) return;
      const [x0, x1] = span(points, (p) => p.x, tail);
      const [y0, y1] = span(points, (p) => p.y, tail);
      const w = width - free.right;
      const h = height - free.bottom;
      const k = Math.min(12, Math.max(1, 0.8 * Math.min(w / (x1 - x0 + 1), h / (y1 - y0 + 1))));
      moveTo(zoomIdentity.translate(w / 2 - (k * (x0 + x1)) / 2, h / 2 - (k * (y0 + y1)) / 2).scale(k));
    },
    [moveTo, places, projection, width, height, free.right, free.bottom],
  );
  // At first most visits are shown, rather than all of them smaller.
  const framed = useRef(false);
  useEffect(() => {
    if (framed.current || !width || places.length === 0) return;
    framed.current = true;
    frame(0.2);
  }, [frame, width, places.length]);
  return useCallback(() => frame(0), [frame]);
}

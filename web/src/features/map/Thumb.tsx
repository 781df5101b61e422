import { geoCircle, geoMercator, geoPath } from "d3-geo";
import { memo } from "react";
import type { Location } from "../../api/client";
import { kmToDegrees, useOutlines, type Outlines } from "./world";

const width = 60;
const height = 34;
/** A thumb is some 2,000 km high. */
const pixelsPerKm = height / 2000;

// The land around a point is the same in every row that shows it.
const cache = new Map<string, { land: string; ring: string; r: number }>();

function draw(outlines: Outlines, latitude: number, longitude: number, radiusKm: number) {
  const key = `${latitude},${longitude},${radiusKm}`;
  let drawn = cache.get(key);
  if (!drawn) {
    const path = geoPath(
      geoMercator()
        .center([longitude, latitude])
        .scale(pixelsPerKm * 6371 * Math.cos((latitude * Math.PI) / 180))
        .translate([width / 2, height / 2])
        .clipExtent([
          [-1, -1],
          [width + 1, height + 1],
        ]),
    ).digits(1);
    drawn = {
      land: path(outlines.land) ?? "",
      ring: path(geoCircle().center([longitude, latitude]).radius(kmToDegrees(radiusKm))()) ?? "",
      r: radiusKm * pixelsPerKm,
    };
    cache.set(key, drawn);
  }
  return drawn;
}

/** Thumb is a small map beside words: land and one circle. */
export const Thumb = memo(function Thumb({ at, aside }: { at: Location; aside: boolean }) {
  const outlines = useOutlines("110m");
  if (at.latitude === null || at.longitude === null || at.radius_km === null || !outlines)
    return <span className={aside || at.latitude === null ? "thumb aside" : "thumb"} aria-hidden="true" />;
  const d = draw(outlines, at.latitude, at.longitude, at.radius_km);
  const wide = at.level === "country" || at.level === "continent";
  return (
    <svg className="map thumb" viewBox={`0 0 ${width} ${height}`} aria-hidden="true">
      <path className="land" d={d.land} />
      {d.r > 2.5 ? (
        <path className={wide ? "ring wide" : "ring dot"} d={d.ring} />
      ) : (
        <circle className="ring dot" cx={width / 2} cy={height / 2} r={2.5} />
      )}
    </svg>
  );
});

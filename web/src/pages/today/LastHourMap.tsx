import { geoCircle, geoNaturalEarth1, geoPath } from "d3-geo";
import { useMemo } from "react";
import { Link } from "react-router";
import type { Place } from "../../api/client";
import { cluster, labels, radiusOf, type Group } from "../../features/map/cluster";
import { useSize } from "../../features/map/useSize";
import { graticule, kmToDegrees, useOutlines } from "../../features/map/world";
import { oppositeOfSun } from "./sun";

const nightSteps = [90, 88, 86, 84, 82, 80, 78, 76];

/** nameOf is what a circle is called: its busiest place. */
export const nameOf = (g: Group): string => {
  const p = g.places[0];
  if (!p) return "";
  const name = p.names.city ?? p.names.region ?? p.names.country;
  return g.places.length > 1 ? `Around ${name}` : name;
};

/** visitsOf is the address of a place's visits in the last hour. */
export function visitsOf(p: Place): string {
  const query = new URLSearchParams({ since: "hour", country_code: p.country_code });
  if (p.city) query.set("city", p.city);
  else query.set("level", p.level);
  return `/visits?${query}`;
}

/** LastHourMap is the world with a circle a place, its area by visits, and the night. */
export function LastHourMap({ places, at }: { places: Place[]; at: Date }) {
  const { ref, width, height } = useSize<HTMLDivElement>();
  const outlines = useOutlines("110m");
  const projection = useMemo(() => {
    // The world is a little larger than its frame: nobody lives at the poles.
    const p = geoNaturalEarth1().fitWidth(width * 1.04, { type: "Sphere" });
    const wide = geoNaturalEarth1().fitHeight(height * 1.22, { type: "Sphere" });
    const scale = Math.max(p.scale(), Math.min(wide.scale(), p.scale() * 1.15));
    return geoNaturalEarth1()
      .scale(scale)
      .rotate([-10, 0])
      .translate([width / 2, height * 0.565]);
  }, [width, height]);
  const paths = useMemo(() => {
    const path = geoPath(projection).digits(1);
    return {
      globe: path({ type: "Sphere" }) ?? "",
      lines: path(graticule) ?? "",
      land: outlines ? (path(outlines.land) ?? "") : "",
      borders: outlines?.borders ? (path(outlines.borders) ?? "") : "",
    };
  }, [projection, outlines]);
  const night = useMemo(() => {
    const path = geoPath(projection).digits(1);
    const middle = oppositeOfSun(at);
    return nightSteps.map((r) => path(geoCircle().center(middle).radius(r)()) ?? "");
  }, [projection, at]);
  const groups = useMemo(() => {
    const spots = places.flatMap((place) => {
      const xy = projection([place.longitude, place.latitude]);
      return xy ? [{ place, x: xy[0], y: xy[1], r: 2.6 + 1.15 * Math.sqrt(place.visits) }] : [];
    });
    return cluster(spots).map((g) => ({ ...g, r: 2.6 + 1.15 * Math.sqrt(g.visits) }));
  }, [places, projection]);
  const placed = useMemo(() => labels(groups, nameOf, true), [groups]);
  return (
    <div className="lasthour" ref={ref}>
      {width > 0 && (
        <svg className="map" width={width} height={height} role="group" aria-label="Visits of the last hour">
          <path className="globe" d={paths.globe} />
          <path className="graticule" d={paths.lines} />
          <path className="land" d={paths.land} />
          <path className="borders" d={paths.borders} />
          <g className="night" aria-hidden="true">
            {night.map((d, i) => (
              <path key={nightSteps[i]} d={d} />
            ))}
          </g>
          {groups.map((g) => {
            const p = g.places[0];
            if (!p) return null;
            const words = `${nameOf(g)}, ${g.visits} visits`;
            return (
              <Link key={g.key} to={visitsOf(p)} aria-label={words}>
                {g.wide ? (
                  <path
                    className="ring wide"
                    d={
                      geoPath(projection).digits(1)(
                        geoCircle()
                          .center([p.longitude, p.latitude])
                          .radius(Math.min(20, kmToDegrees(p.radius_km)))(),
                      ) ?? ""
                    }
                  />
                ) : (
                  <circle
                    className="ring dot"
                    cx={g.x}
                    cy={g.y}
                    r={g.places.length > 1 ? radiusOf(g) * 0.6 : g.r}
                  />
                )}
              </Link>
            );
          })}
          {placed.map((l) => (
            <text key={l.group.key} className="name" x={l.x} y={l.y} textAnchor={l.anchor} aria-hidden="true">
              {l.text.replace(/(,.*)? (\d+)$/, "")} <tspan className="count-of">{l.group.visits}</tspan>
            </text>
          ))}
        </svg>
      )}
    </div>
  );
}

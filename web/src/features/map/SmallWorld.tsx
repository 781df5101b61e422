import { geoCircle, geoNaturalEarth1, geoPath } from "d3-geo";
import { useMemo } from "react";
import { Link } from "react-router";
import type { Place } from "../../api/client";
import { cluster, labels, radiusOf, type Group } from "./cluster";
import { useSize } from "./useSize";
import { graticule, kmToDegrees, useOutlines } from "./world";

/** nameOf is what a circle is called: its busiest place. */
export const nameOf = (g: Group): string => {
  const p = g.places[0];
  if (!p) return "";
  const name = p.names.city ?? p.names.region ?? p.names.country;
  return g.places.length > 1 ? `Around ${name}` : name;
};

interface Props {
  places: Place[];
  /** label says what is shown, to whoever does not see it. */
  label: string;
  /** what is counted, such as visits. */
  what: string;
  /** to is the address of what is behind a circle. */
  to: (p: Place) => string;
  /** night are circles of shade around a point, in degrees. */
  night?: { middle: [number, number]; steps: number[] } | undefined;
}

/** SmallWorld is the world with a circle a place, its area by how many there are. */
export function SmallWorld({ places, label, what, to, night }: Props) {
  const { ref, width, height } = useSize<HTMLDivElement>();
  const outlines = useOutlines("110m");
  const projection = useMemo(() => {
    // The world is a little larger than its frame: nobody lives at the poles.
    const p = geoNaturalEarth1().fitWidth(width * 1.04, { type: "Sphere" });
    const wide = geoNaturalEarth1().fitHeight(height * 1.22, { type: "Sphere" });
    const scale = Math.max(p.scale(), Math.min(wide.scale(), p.scale() * 1.15));
    const low = height < width * 0.42; // too low for the world: more people live in the north
    return geoNaturalEarth1()
      .scale(scale)
      .rotate([-10, 0])
      .translate([width / 2, low ? height / 2 + scale * 0.43 : height * 0.565]);
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
  const shades = useMemo(() => {
    if (!night) return [];
    const path = geoPath(projection).digits(1);
    return night.steps.map((r) => path(geoCircle().center(night.middle).radius(r)()) ?? "");
  }, [projection, night]);
  const groups = useMemo(() => {
    const spots = places.flatMap((place) => {
      const xy = projection([place.longitude, place.latitude]);
      return xy ? [{ place, x: xy[0], y: xy[1], r: 2.6 + 1.15 * Math.sqrt(place.visits) }] : [];
    });
    return cluster(spots).map((g) => ({ ...g, r: 2.6 + 1.15 * Math.sqrt(g.visits) }));
  }, [places, projection]);
  const placed = useMemo(() => labels(groups, nameOf, true), [groups]);
  return (
    <div className="smallworld" ref={ref}>
      {width > 0 && (
        <svg className="map" width={width} height={height} role="group" aria-label={label}>
          <path className="globe" d={paths.globe} />
          <path className="graticule" d={paths.lines} />
          <path className="land" d={paths.land} />
          <path className="borders" d={paths.borders} />
          <g className="night" aria-hidden="true">
            {shades.map((d, i) => (
              <path key={i} d={d} />
            ))}
          </g>
          {groups.map((g) => {
            const p = g.places[0];
            if (!p) return null;
            const words = `${nameOf(g)}, ${g.visits} ${what}`;
            return (
              <Link key={g.key} to={to(p)} aria-label={words}>
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

import { counted } from "../../components/format";
import { geoCircle, geoNaturalEarth1, geoPath } from "d3-geo";
import { zoomIdentity, type ZoomTransform } from "d3-zoom";
import { useEffect, useImperativeHandle, useMemo, useState, type KeyboardEvent, type Ref } from "react";
import type { Place } from "../../api/client";
import { cluster, labels, placeKey, radiusOf, type Group } from "./cluster";
import { useFrame, useLand, type Free } from "./land";
import { maxZoom, usePan } from "./pan";
import { useSize } from "./useSize";
import { kmToDegrees } from "./world";

export interface WorldHandle {
  zoomBy: (factor: number) => void;
  fit: () => void;
}

interface Props {
  places: Place[];
  nameOf: (g: Group) => string;
  selected: string;
  onSelect: (key: string) => void;
  /** onGroups tells which circles are in view, and how many pixels a km has. */
  onGroups: (inView: Group[], pixelsPerKm: number) => void;
  free: Free;
  handle: Ref<WorldHandle>;
  /** shares are the visits of countries, 0 to 1 of the most; where they are given, countries are shaded instead of circles drawn. */
  shares?: Map<string, number> | undefined;
}

/** WorldMap is a map that pans and zooms; circles keep their true size. */
export function WorldMap(props: Props) {
  const { places, selected, onSelect, nameOf, onGroups, free, shares } = props;
  const { ref, width, height } = useSize<HTMLDivElement>();
  const [at, setAt] = useState<ZoomTransform>(zoomIdentity);
  const { projection, paths, shaded } = useLand(width, height, free, at.k, shares);
  const { svg, base, zoomBy, moveTo, panBy } = usePan(width, height, setAt);
  const fit = useFrame(places, projection, width, height, free, moveTo);
  useImperativeHandle(props.handle, () => ({ zoomBy, fit }), [zoomBy, fit]);

  // Pixels a km has at the middle of the map; Natural Earth is true to size
  // within a few percent where people live.
  const pixelsPerKm = (projection.scale() * at.k) / 6371;

  const groups = useMemo(() => {
    const spots = places.flatMap((place) => {
      const xy = projection([place.longitude, place.latitude]);
      if (!xy) return [];
      const [x, y] = at.apply(xy);
      return [{ place, x, y, r: Math.max(5, place.radius_km * pixelsPerKm) }];
    });
    return cluster(spots);
  }, [places, projection, at, pixelsPerKm]);

  const inView = useMemo(
    () => groups.filter((g) => g.x > -10 && g.y > -10 && g.x < width - free.right + 10 && g.y < height + 10),
    [groups, width, height, free.right],
  );
  useEffect(() => onGroups(inView, pixelsPerKm), [inView, pixelsPerKm, onGroups]);

  const placed = useMemo(() => labels(inView, nameOf), [inView, nameOf]);

  const ringOf = (g: Group) => {
    const p = g.places[0];
    if (!p) return "";
    const scaled = geoNaturalEarth1()
      .scale(projection.scale() * at.k)
      .translate(at.apply(projection.translate()));
    return (
      geoPath(scaled).digits(1)(
        geoCircle().center([p.longitude, p.latitude]).radius(kmToDegrees(p.radius_km))(),
      ) ?? ""
    );
  };

  const onKey = (e: KeyboardEvent) => {
    const pan: Record<string, [number, number]> = {
      ArrowLeft: [60, 0],
      ArrowRight: [-60, 0],
      ArrowUp: [0, 60],
      ArrowDown: [0, -60],
    };
    const by = pan[e.key];
    if (by) panBy(by[0] / at.k, by[1] / at.k);
    else if (e.key === "+" || e.key === "=") zoomBy(1.5);
    else if (e.key === "-") zoomBy(1 / 1.5);
    else return;
    e.preventDefault();
  };

  return (
    <div className="worldmap" ref={ref}>
      <svg
        ref={svg}
        className="map"
        width={width}
        height={height}
        tabIndex={0}
        role="group"
        aria-label="Map of visits. Arrows pan, plus and minus zoom, Tab walks the circles, t turns to the table."
        onKeyDown={onKey}
      >
        <g ref={base}>
          <path className="globe" d={paths.globe} />
          <path className="graticule" d={paths.lines} />
          <path className="land" d={paths.land} />
          {shaded.map((c) => (
            <path key={c.code} className={`share step${c.step}`} d={c.d} />
          ))}
          <path className="borders" d={paths.borders} />
        </g>
        {!shares &&
          inView.map((g) => (
            <Circle
              key={g.key}
              group={g}
              ring={g.wide ? ringOf(g) : null}
              name={nameOf(g)}
              chosen={g.places.some((p) => placeKey(p) === selected)}
              onChoose={() => (g.places.length > 1 ? zoomTo(g) : onSelect(g.key))}
            />
          ))}
        {!shares &&
          placed.map((l) => (
            <text
              key={l.group.key}
              className={l.group.key === selected ? "name big" : "name"}
              x={l.x}
              y={l.y}
              textAnchor={l.anchor}
              aria-hidden="true"
            >
              {l.text}
            </text>
          ))}
      </svg>
    </div>
  );

  function zoomTo(g: Group) {
    const [x, y] = at.invert([g.x, g.y]);
    const k = Math.min(maxZoom, at.k * 2.5);
    const t = zoomIdentity
      .translate((width - free.right) / 2 - k * x, (height - free.bottom) / 2 - k * y)
      .scale(k);
    moveTo(t);
  }
}

interface CircleProps {
  group: Group;
  /** ring is the true outline of a country-level circle. */
  ring: string | null;
  name: string;
  chosen: boolean;
  onChoose: () => void;
}

function Circle(props: CircleProps) {
  const { group: g, chosen, ring } = props;
  const r = radiusOf(g);
  const several = g.places.length > 1;
  const words = several
    ? `${props.name}: ${counted(g.places.length, "place")}, ${counted(g.visits, "visit")}; Enter zooms in`
    : `${props.name}, ${counted(g.visits, "visit")}`;
  return (
    <g
      role="button"
      tabIndex={0}
      aria-label={words}
      aria-pressed={chosen}
      onClick={props.onChoose}
      onKeyDown={(e) => {
        if (e.key === "Enter" || e.key === " ") {
          e.preventDefault();
          props.onChoose();
        }
      }}
    >
      {ring !== null ? (
        <>
          <path className={chosen ? "ring wide picked" : "ring wide"} d={ring} />
          <path className="focus" d={ring} />
        </>
      ) : (
        <>
          {chosen && <circle className="chosen" cx={g.x} cy={g.y} r={r + 5} />}
          <circle className={several ? "cluster" : "ring dot"} cx={g.x} cy={g.y} r={r} />
          {several && <circle className="halo" cx={g.x} cy={g.y} r={r + 3} />}
          {several && (
            <text className="count" x={g.x} y={g.y}>
              {g.visits}
            </text>
          )}
          <circle className="focus" cx={g.x} cy={g.y} r={r + 6} />
        </>
      )}
    </g>
  );
}

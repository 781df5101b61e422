import { geoCircle, geoNaturalEarth1, geoPath } from "d3-geo";
import { select } from "d3-selection";
import {
  zoom as d3zoom,
  zoomIdentity,
  type D3ZoomEvent,
  type ZoomBehavior,
  type ZoomTransform,
} from "d3-zoom";
import { useCallback, useEffect, useMemo, useRef, useState, type KeyboardEvent, type Ref } from "react";
import { useImperativeHandle } from "react";
import type { Place } from "../api/client";
import { cluster, labels, placeKey, radiusOf, type Group } from "./cluster";
import { useSize } from "./useSize";
import { graticule, kmToDegrees, useOutlines } from "./world";

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
  /** free is what floating panels leave of the map, in pixels from each side. */
  free: { right: number; bottom: number };
  handle: Ref<WorldHandle>;
  /** shares are the visits of countries, 0 to 1 of the most; where they are given, countries are shaded instead of circles drawn. */
  shares?: Map<string, number> | undefined;
}

const maxZoom = 60;

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

/** WorldMap is a map that pans and zooms; circles keep their true size. */
export function WorldMap(props: Props) {
  const { places, selected, onSelect, nameOf, onGroups, free, shares } = props;
  const { ref, width, height } = useSize<HTMLDivElement>();
  const svg = useRef<SVGSVGElement>(null);
  const base = useRef<SVGGElement>(null);
  const [at, setAt] = useState<ZoomTransform>(zoomIdentity);
  const world = useOutlines("110m");
  const continent = useOutlines("50m", at.k > 2.2);
  const outlines = (at.k > 2.2 && continent) || world;

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

  const behaviour = useRef<ZoomBehavior<SVGSVGElement, unknown>>(null);
  useEffect(() => {
    const element = svg.current;
    if (!element || !width) return;
    const made = d3zoom<SVGSVGElement, unknown>()
      .scaleExtent([1, maxZoom])
      .translateExtent([
        [0, 0],
        [width, height],
      ])
      .on("zoom", (event: D3ZoomEvent<SVGSVGElement, unknown>) => {
        base.current?.setAttribute("transform", event.transform.toString());
        setAt(event.transform);
      });
    behaviour.current = made;
    const selection = select(element).call(made);
    return () => void selection.on(".zoom", null);
  }, [width, height]);

  const moveTo = useCallback((t: ZoomTransform) => {
    if (svg.current && behaviour.current) select(svg.current).call(behaviour.current.transform, t);
  }, []);
  const zoomBy = useCallback((factor: number) => {
    if (svg.current && behaviour.current) select(svg.current).call(behaviour.current.scaleBy, factor);
  }, []);
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
  const fit = useCallback(() => frame(0), [frame]);
  // At first most visits are shown, rather than all of them smaller.
  const framed = useRef(false);
  useEffect(() => {
    if (framed.current || !width || places.length === 0) return;
    framed.current = true;
    frame(0.2);
  }, [frame, width, places.length]);
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
    if (by && svg.current && behaviour.current)
      select(svg.current).call(behaviour.current.translateBy, by[0] / at.k, by[1] / at.k);
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
    ? `${g.places.length} places around ${props.name}, ${g.visits} visits; Enter zooms in`
    : `${props.name}, ${g.visits} visits`;
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

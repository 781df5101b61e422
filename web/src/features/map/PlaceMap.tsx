import { geoCircle, geoMercator, geoPath, type GeoProjection } from "d3-geo";
import { useMemo } from "react";
import { degrees, km } from "../../components/format";
import { useSize } from "./useSize";
import { graticule, kmToDegrees, landAt, scaleBar, useOutlines, type Outlines } from "./world";

interface Props {
  latitude: number;
  longitude: number;
  radiusKm: number;
  name: string;
  /** wide draws the circle dashed: the country or continent is all that is known. */
  wide?: boolean;
  /** scaleKm is the radius that the scale is made for, where maps side by side share one. */
  scaleKm?: number;
}

/** around is the projection of a map with a place in its middle. */
export const around = (longitude: number, latitude: number, scale: number, width: number, height: number) =>
  geoMercator()
    .center([longitude, latitude])
    .scale(scale)
    .translate([width / 2, height / 2])
    .clipExtent([
      [-2, -2],
      [width + 2, height + 2],
    ]);

/** landOn gives the land that a map shows. It ends at the date line, as the map does. */
export function landOn(projection: GeoProjection, outlines: Outlines, width: number, height: number) {
  const [longitude, latitude] = projection.center();
  const half = ((width / 2 + 2) / projection.scale()) * (180 / Math.PI);
  const edge = (y: number) => projection.invert?.([width / 2, y])?.[1] ?? latitude;
  return landAt(outlines, [longitude - half, edge(height + 2), longitude + half, edge(-2)]);
}

/** PlaceMap shows one true circle: the place lies somewhere within it. */
export function PlaceMap(props: Props) {
  const { latitude, longitude, radiusKm } = props;
  const scaleKm = props.scaleKm ?? radiusKm;
  const { ref, width, height } = useSize<HTMLDivElement>();
  const place = radiusKm < 150;
  const coarse = useOutlines("50m");
  const fine = useOutlines("10m", place);

  const drawn = useMemo(() => {
    if (!width || !height) return null;
    // The circle takes four tenths of the smaller side.
    const pixelsPerKm = (0.2 * Math.min(width, height)) / scaleKm;
    const stretch = Math.cos((latitude * Math.PI) / 180);
    const projection = around(longitude, latitude, pixelsPerKm * 6371 * stretch, width, height);
    const path = geoPath(projection);
    const outlines = (place && fine) || coarse;
    return {
      land: outlines && path(landOn(projection, outlines, width, height)),
      borders: coarse?.borders && path(coarse.borders),
      lines: path(graticule),
      ring: path(geoCircle().center([longitude, latitude]).radius(kmToDegrees(radiusKm))()),
      bar: scaleBar(pixelsPerKm, 110),
      edge: radiusKm * pixelsPerKm,
    };
  }, [width, height, latitude, longitude, radiusKm, scaleKm, place, coarse, fine]);

  const label = `Somewhere within ${km(radiusKm)} of ${degrees(latitude)}, ${degrees(longitude)}, at ${props.name}`;
  const x = width / 2;
  const y = height / 2;
  return (
    <div className="placemap" ref={ref}>
      {drawn && (
        <svg className="map" width={width} height={height} role="img" aria-label={label}>
          <path className="graticule" d={drawn.lines ?? ""} />
          <path className="land" d={drawn.land ?? ""} />
          <path className="borders" d={drawn.borders ?? ""} />
          <path className={props.wide ? "ring wide" : "ring"} d={drawn.ring ?? ""} />
          <path className="cross" d={`M${x - 5} ${y}h10M${x} ${y - 5}v10`} />
          <path className="reach" d={`M${x + 7} ${y}H${x + drawn.edge}`} />
          <text className="name" x={x + drawn.edge + 6} y={y + 4}>
            {km(radiusKm)}
          </text>
          {props.scaleKm === undefined && (
            <text className="name big" x={x} y={y - drawn.edge - 10} textAnchor="middle">
              {props.name}
            </text>
          )}
          <path className="scale" d={`M14 ${height - 20}v5h${drawn.bar.pixels}v-5`} />
          <text className="name" x={14 + drawn.bar.pixels + 8} y={height - 12}>
            {km(drawn.bar.km)}
          </text>
        </svg>
      )}
    </div>
  );
}

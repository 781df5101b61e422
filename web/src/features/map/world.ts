import { useQuery } from "@tanstack/react-query";
import { geoArea, geoGraticule } from "d3-geo";
import type { Feature, MultiLineString, MultiPolygon, Polygon, Position } from "geojson";
import { feature, mesh } from "topojson-client";
import { alpha2 } from "./numeric";
import type { GeometryCollection, Topology } from "topojson-specification";
import countries110 from "world-atlas/countries-110m.json?url";
import countries50 from "world-atlas/countries-50m.json?url";
import land10 from "world-atlas/land-10m.json?url";

/** Detail is the scale of the outlines: the world, a continent, or a place. */
export type Detail = "110m" | "50m" | "10m";

/** Box is a part of the world in degrees: west, south, east, north. */
type Box = [number, number, number, number];

export interface Outlines {
  land: Feature<MultiPolygon>;
  /** boxes hold the polygons of the land, in their order. */
  boxes: Box[];
  /** null where the outlines have no countries. */
  borders: MultiLineString | null;
  /** countries by their alpha-2 codes; those without one are left out. */
  countries: { code: string; shape: Feature }[];
}

const files: Record<Detail, string> = { "110m": countries110, "50m": countries50, "10m": land10 };

export type World = Topology<{ land: GeometryCollection<{ name?: string }>; countries?: GeometryCollection }>;

/** outlinesOf reads what a file of outlines holds. */
export function outlinesOf(topology: World): Outlines {
  const collection = feature(topology, topology.objects.land);
  const polygons = collection.features.flatMap((f) => {
    const g = f.geometry as Polygon | MultiPolygon;
    return g.type === "Polygon" ? [g.coordinates] : g.coordinates;
  });
  // Some rings are wound the wrong way and read as the whole globe.
  const sound = polygons.filter((p) => geoArea({ type: "Polygon", coordinates: p }) <= 6);
  const c = topology.objects.countries;
  return {
    land: { type: "Feature", properties: {}, geometry: { type: "MultiPolygon", coordinates: sound } },
    boxes: sound.map(boxOf),
    borders: c ? mesh(topology as never, c as never, (a, b) => a !== b) : null,
    countries: c
      ? feature(topology, c).features.flatMap((f) => {
          const code = alpha2[String(f.id).padStart(3, "0")];
          return code ? [{ code, shape: f }] : [];
        })
      : [],
  };
}

function boxOf([outer]: Position[][]): Box {
  const box: Box = [180, 90, -180, -90];
  for (const [x = 0, y = 0] of outer ?? []) {
    box[0] = Math.min(box[0], x);
    box[1] = Math.min(box[1], y);
    box[2] = Math.max(box[2], x);
    box[3] = Math.max(box[3], y);
  }
  return box;
}

/** landAt gives the polygons of the land that reach into a box: to draw the whole world in detail takes a second. */
export function landAt({ land, boxes }: Outlines, [west, south, east, north]: Box): MultiPolygon {
  const seen = boxes.map((b) => b[0] <= east && b[2] >= west && b[1] <= north && b[3] >= south);
  return { type: "MultiPolygon", coordinates: land.geometry.coordinates.filter((_, i) => seen[i]) };
}

/** useOutlines loads the outlines of a scale once. */
export function useOutlines(detail: Detail, enabled = true) {
  return useQuery({
    queryKey: ["outlines", detail],
    staleTime: Infinity,
    gcTime: Infinity,
    enabled,
    queryFn: async ({ signal }) =>
      outlinesOf((await (await fetch(files[detail], { signal })).json()) as World),
  }).data;
}

export const graticule = geoGraticule().step([30, 30])();

/** kmToDegrees turns a distance on the sphere into degrees of arc. */
export const kmToDegrees = (km: number) => km / 111.195;

/** scaleBar picks a round length, in km, that fits a width in pixels. */
export function scaleBar(pixelsPerKm: number, most: number): { km: number; pixels: number } {
  for (const km of [5000, 2000, 1000, 500, 250, 100, 50, 20, 10, 5, 2, 1])
    if (km * pixelsPerKm <= most) return { km, pixels: km * pixelsPerKm };
  return { km: 1, pixels: pixelsPerKm };
}

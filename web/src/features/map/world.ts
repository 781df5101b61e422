import { useQuery } from "@tanstack/react-query";
import { geoArea, geoGraticule } from "d3-geo";
import type { Feature, MultiLineString, MultiPolygon, Polygon } from "geojson";
import { feature, mesh } from "topojson-client";
import { alpha2 } from "./numeric";
import type { GeometryCollection, Topology } from "topojson-specification";
import countries110 from "world-atlas/countries-110m.json?url";
import countries50 from "world-atlas/countries-50m.json?url";
import land10 from "world-atlas/land-10m.json?url";

/** Detail is the scale of the outlines: the world, a continent, or a place. */
export type Detail = "110m" | "50m" | "10m";

export interface Outlines {
  land: Feature<MultiPolygon>;
  /** null where the outlines have no countries. */
  borders: MultiLineString | null;
  /** countries by their alpha-2 codes; those without one are left out. */
  countries: { code: string; shape: Feature }[];
}

const files: Record<Detail, string> = { "110m": countries110, "50m": countries50, "10m": land10 };

type World = Topology<{ land: GeometryCollection<{ name?: string }>; countries?: GeometryCollection }>;

async function read(detail: Detail, signal: AbortSignal): Promise<Outlines> {
  const topology = (await (await fetch(files[detail], { signal })).json()) as World;
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
    borders: c ? mesh(topology as never, c as never, (a, b) => a !== b) : null,
    countries: c
      ? feature(topology, c).features.flatMap((f) => {
          const code = alpha2[String(f.id).padStart(3, "0")];
          return code ? [{ code, shape: f }] : [];
        })
      : [],
  };
}

/** useOutlines loads the outlines of a scale once. */
export function useOutlines(detail: Detail, enabled = true) {
  return useQuery({
    queryKey: ["outlines", detail],
    staleTime: Infinity,
    gcTime: Infinity,
    enabled,
    queryFn: ({ signal }) => read(detail, signal),
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

import { readFileSync } from "node:fs";
import { join } from "node:path";
import { geoPath } from "d3-geo";
import { expect, it } from "vitest";
import { around, landOn } from "./PlaceMap";
import { outlinesOf, type World } from "./world";

const file = join(import.meta.dirname, "../../../node_modules/world-atlas/countries-110m.json");
const outlines = outlinesOf(JSON.parse(readFileSync(file, "utf8")) as World);

it("draws what a map shows as if it drew the whole world", () => {
  let empty = 0;
  for (let n = 0; n < 150; n++) {
    const width = 100 + ((n * 37) % 700);
    const height = 80 + ((n * 53) % 500);
    const projection = around(
      ((n * 97.3) % 360) - 180,
      ((n * 31.7) % 166) - 83,
      300 * 1.06 ** n,
      width,
      height,
    );
    const path = geoPath(projection);
    const land = landOn(projection, outlines, width, height);
    if (land.coordinates.length === 0) empty++;
    expect(path(land)).toEqual(path(outlines.land));
  }
  expect(empty).toBeGreaterThan(5);
});

// The flags of internal/flags: a line a country, its code and the SVG document.
import { readFileSync } from "node:fs";
import { codes } from "./countries.mjs";

const shapes = { wide: "4x3", square: "1x1" };

export function flagFiles() {
  return Object.entries(shapes).map(([shape, folder]) => {
    const lines = codes.map((code) => {
      const file = new URL(`node_modules/flag-icons/flags/${folder}/${code.toLowerCase()}.svg`, import.meta.url);
      const svg = readFileSync(file, "utf8").replace(/\s*\n\s*/g, " ").trim();
      return `${code}\t${svg}`;
    });
    return [`flags/${shape}.gz`, lines.join("\n") + "\n"];
  });
}

// Writes the page script as it is served, smaller than its source: node porch.mjs, or node porch.mjs --check.
import { readFileSync, writeFileSync } from "node:fs";
import process from "node:process";
import { minifySync } from "rolldown/experimental";

const folder = new URL("../internal/server/page/", import.meta.url);
const { code, errors } = minifySync("porch.js", readFileSync(new URL("porch.js", folder), "utf8"));
if (errors?.length) throw new Error(errors.map(String).join("\n"));
const text = `// East Porch for pages; porch.d.ts beside it describes everything.\n${code.trim()}\n`;
const file = new URL("porch.min.js", folder);
if (process.argv.includes("--check")) {
  if (readFileSync(file, "utf8") !== text) {
    console.error("internal/server/page/porch.min.js is stale: run make generate");
    process.exit(1);
  }
} else writeFileSync(file, text);

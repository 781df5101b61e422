// @vitest-environment jsdom
// The React snippet that Set-up shows, run as it stands, against the types of porch.js.
import { act, renderHook } from "@testing-library/react";
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { pathToFileURL } from "node:url";
import ts from "typescript";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import type { Porch, PorchCard } from "../../../internal/server/page/porch";

const repository = join(process.cwd(), "..");
const template = readFileSync(join(repository, "internal/core/snippet/templates/react"), "utf8");
const snippet = template.replace("{{firstJS}}", "location?.names.city");

const lisbon: PorchCard = {
  money: {
    currency_code: "EUR",
    symbol: "€",
    minor_units: 2,
    display_digits: 2,
    also: [],
    rate: null,
    rates: [],
  },
  variants: { offer: "early" },
};
const tokyo: PorchCard = { variants: { offer: "open" } };

let folder = "";
beforeEach(() => {
  folder = mkdtempSync(join(process.cwd(), "node_modules/.pasted-"));
});
afterEach(() => {
  rmSync(folder, { recursive: true });
  vi.unstubAllGlobals();
});

test("the hook gives the card of before at once, and then the new one", async () => {
  const porch: Pick<Porch, "last"> = { last: lisbon };
  vi.stubGlobal("porch", porch);
  const { outputText } = ts.transpileModule(snippet, {
    compilerOptions: { module: ts.ModuleKind.ESNext, target: ts.ScriptTarget.ES2022 },
  });
  const file = join(folder, "usePorch.mjs");
  writeFileSync(file, outputText);
  const { usePorch } = (await import(/* @vite-ignore */ pathToFileURL(file).href)) as {
    usePorch: () => PorchCard | null;
  };
  const { result } = renderHook(() => usePorch());
  expect(result.current).toBe(lisbon);
  act(() => {
    document.dispatchEvent(new CustomEvent("porch:card", { detail: { card: tokyo, stale: false } }));
  });
  expect(result.current).toBe(tokyo);
});

test("it is right by the types of porch.js", () => {
  const file = join(folder, "usePorch.ts");
  writeFileSync(file, snippet.replace("./porch", join(repository, "internal/server/page/porch")));
  const program = ts.createProgram([file], {
    strict: true,
    noEmit: true,
    skipLibCheck: false,
    target: ts.ScriptTarget.ES2022,
    module: ts.ModuleKind.ESNext,
    moduleResolution: ts.ModuleResolutionKind.Bundler,
    types: [],
    lib: ["lib.es2022.d.ts", "lib.dom.d.ts"],
  });
  const own = ts
    .getPreEmitDiagnostics(program)
    .filter((d) => d.file?.fileName.includes("usePorch") || d.file?.fileName.endsWith("porch.d.ts"))
    .map((d) => ts.flattenDiagnosticMessageText(d.messageText, " "));
  expect(own).toEqual([]);
}, 60_000);

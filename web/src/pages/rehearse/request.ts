import type { RehearsalRequest, Rehearsed } from "../../api/client";

/** Asked is what the page's address says: places, a path and the rest. */
export interface Asked {
  from: string[];
  path: string;
  language: string;
  at: string;
  page: boolean;
  draft: boolean;
}

export const usual = ["PT", "CA", "GR", "NZ"];
export const mostPlaces = 4;

export function askedOf(params: URLSearchParams): Asked {
  const from = params.getAll("from").filter((f) => f !== "");
  return {
    from: (from.length ? from : usual).slice(0, mostPlaces),
    path: params.get("path") ?? "/",
    language: params.get("language") ?? "",
    at: params.get("at") ?? "",
    page: params.get("page") === "1",
    draft: params.get("draft") === "1",
  };
}

/** write puts it into the page's address, which signed-in users may share. */
export function write(params: URLSearchParams, asked: Asked) {
  params.delete("from");
  for (const f of asked.from) params.append("from", f);
  params.set("path", asked.path);
  for (const [key, value] of [
    ["language", asked.language],
    ["at", asked.at],
    ["page", asked.page ? "1" : ""],
    ["draft", asked.draft ? "1" : ""],
  ] as const) {
    if (value) params.set(key, value);
    else params.delete(key);
  }
}

export const requestOf = (site: string, asked: Asked): RehearsalRequest => ({
  site,
  visitors: asked.from.map((from) => ({
    from,
    ...(asked.language ? { accept_language: asked.language } : {}),
    ...(asked.at ? { at: asked.at } : {}),
  })),
  paths: [asked.path],
  ...(asked.draft ? { draft: true } : {}),
  ...(asked.page ? { fetch: true } : {}),
});

/** expectations is a file for eastporch rehearse --expect; it reads JSON as it does YAML. */
export const expectations = (site: string, results: Rehearsed[]) =>
  JSON.stringify({ site, expect: results.flatMap((r) => (r.expectation ? [r.expectation] : [])) }, null, 2) +
  "\n";

/** alike says whether all results have the same of something, so that the row can be folded. */
export const alike = (results: Rehearsed[], of: (r: Rehearsed) => string) =>
  results.length > 1 && new Set(results.map(of)).size === 1;

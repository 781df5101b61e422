import createClient from "openapi-fetch";
import type { components, paths } from "./schema";
import { isVeiled, unveil, unveilURL, veilJSON } from "../features/presentation/veil";

export type Card = components["schemas"]["Card"];
export type Visit = components["schemas"]["Visit"];
export type Trail = components["schemas"]["Trail"];
export type ProxySettings = components["schemas"]["ProxySettings"];
export type Checkup = components["schemas"]["Checkup"];
export type RefusedKind = components["schemas"]["RefusedKind"];
export type RefusedHeld = components["schemas"]["RefusedHeld"];
export type Hop = components["schemas"]["Hop"];
export type Evidence = components["schemas"]["Evidence"];
export type Level = components["schemas"]["Level"];
export type Location = components["schemas"]["Location"];
export type Report = components["schemas"]["Report"];
export type ReportRow = components["schemas"]["ReportRow"];

/** A Place is a line of the report of places, which all have a point and a country. */
export interface Place {
  level: Level;
  country_code: string;
  region_code: string | null;
  city: string | null;
  names: { country: string; region: string | null; city: string | null };
  latitude: number;
  longitude: number;
  radius_km: number;
  visits: number;
}

export function placeOf(r: ReportRow): Place {
  return {
    level: r.level as Level,
    country_code: r.country_code ?? "",
    region_code: r.region_code,
    city: r.city,
    names: { country: r.names.country ?? r.country_code ?? "", region: r.names.region, city: r.names.city },
    latitude: r.latitude ?? 0,
    longitude: r.longitude ?? 0,
    radius_km: r.radius_km ?? 0,
    visits: r.visits,
  };
}
export type Problem = components["schemas"]["Problem"];
export type Key = components["schemas"]["Key"];
export type Made = components["schemas"]["Made"];
export type NewKey = components["schemas"]["NewKey"];
export type Session = components["schemas"]["Session"];
export type Site = components["schemas"]["Site"];
export type Sites = paths["/v1/sites"]["get"]["responses"]["200"]["content"]["application/json"];

/** The contract offers several media types; the console asks for JSON. */
type OnlyJSON<R> = R extends { content: infer C }
  ? "application/json" extends keyof C
    ? Omit<R, "content"> & { content: Pick<C, "application/json" & keyof C> }
    : R
  : R;
type InJSON<O> = O extends { responses: infer R }
  ? Omit<O, "responses"> & { responses: { [S in keyof R]: OnlyJSON<R[S]> } }
  : O;
type JSONPaths = { [P in keyof paths]: { [M in keyof paths[P]]: InJSON<paths[P][M]> } };

/** The only code that fetches from the service. */
export const api = createClient<JSONPaths>({ baseUrl: "/", headers: { Accept: "application/json" } });

api.use({
  async onRequest({ request }) {
    if (!isVeiled()) return undefined;
    const body = request.body === null ? undefined : unveil(await request.clone().text());
    return new Request(unveilURL(request.url), {
      method: request.method,
      headers: request.headers,
      signal: request.signal,
      ...(body === undefined ? {} : { body }),
    });
  },
  async onResponse({ response }) {
    if (!isVeiled() || !(response.headers.get("Content-Type") ?? "").includes("json")) return undefined;
    const { status, statusText, headers } = response;
    const plainHeaders = new Headers(headers);
    plainHeaders.delete("Content-Length");
    return new Response(veilJSON(await response.text()), { status, statusText, headers: plainHeaders });
  },
});

/** signedOut tells of "out": a call was refused because the session has ended. */
export const signedOut = new EventTarget();

api.use({
  onResponse({ request, response }) {
    const path = new URL(request.url).pathname;
    if (response.status === 401 && path !== "/v1/sites") signedOut.dispatchEvent(new Event("out"));
    return undefined;
  },
});

/** A Refusal is a problem document of the service, or what stands for one. */
export class Refusal extends Error {
  readonly at = new Date();
  constructor(readonly problem: Problem) {
    super(problem.detail);
  }
}

/** accomplish waits for a call that answers nothing, and throws a Refusal for a problem. */
export async function accomplish(answer: Promise<{ error?: unknown; response: Response }>): Promise<void> {
  await unwrap(answer.then((a) => ({ ...a, ...(a.response.ok ? { data: true } : {}) })));
}

/** unwrap gives the data of an answer and throws a Refusal for a problem. */
export async function unwrap<T>(
  answer: Promise<{ data?: T; error?: unknown; response: Response }>,
): Promise<T> {
  let result;
  try {
    result = await answer;
  } catch (cause) {
    if (cause instanceof DOMException && cause.name === "AbortError") throw cause;
    throw new Refusal({
      type: "/problems/unreachable",
      title: "The service does not answer",
      status: 0,
      detail: "No answer came over the network.",
      hint: "Check that the service runs.",
      request_id: "",
    });
  }
  if (result.data !== undefined) return result.data;
  const p = result.error as Partial<Problem> | undefined;
  throw new Refusal({
    type: p?.type ?? "about:blank",
    title: p?.title ?? "The service refused",
    status: result.response.status,
    detail: p?.detail ?? `It answered ${result.response.status}.`,
    hint: p?.hint ?? "",
    request_id: p?.request_id ?? "",
  });
}

/** Timed is an answer as text, with what it took. */
export interface Timed {
  path: string;
  status: number;
  milliseconds: number;
  text: string;
}

/** timed asks for a path and keeps the answer as it came. */
export async function timed(path: string, signal: AbortSignal): Promise<Timed> {
  const begun = performance.now();
  const answer = await fetch(isVeiled() ? unveilURL(new URL(path, location.href).href) : path, {
    signal,
    headers: { Accept: "application/json" },
  });
  const text = await answer.text();
  const milliseconds = performance.now() - begun;
  return { path, status: answer.status, milliseconds, text: isVeiled() ? veilJSON(text) : text };
}

export type GateRules = components["schemas"]["GateRules"];
export type Gate = components["schemas"]["Gate"];
export type GateRule = components["schemas"]["GateRule"];
export type GateState = components["schemas"]["GateState"];
export type GateFinding = components["schemas"]["GateFinding"];
export type GateSimulation = components["schemas"]["GateSimulation"];
export type GateDecision = NonNullable<components["schemas"]["GateDecision"]>;
export type GateRevision = components["schemas"]["GateRevision"];
export type Rehearsal = components["schemas"]["Rehearsal"];
export type Rehearsed = components["schemas"]["Rehearsed"];
export type RehearsalRequest = components["schemas"]["RehearsalRequest"];
export type Snippet = components["schemas"]["Snippets"]["snippets"][number];
export type VariantSet = components["schemas"]["VariantSet"];
export type Variants = components["schemas"]["Variants"];
export type AtlasEdition = components["schemas"]["AtlasEdition"];
export type Editions = components["schemas"]["Editions"];
export type Edition = components["schemas"]["Edition"];
export type Job = components["schemas"]["Job"];
export type Changes = components["schemas"]["Changes"];
export type Change = components["schemas"]["Change"];
export type Spot = components["schemas"]["Spot"];
export type Coverage = components["schemas"]["CoverageAnswer"];
export type Accuracy = components["schemas"]["Accuracy"];
export type Note = components["schemas"]["Note"];
export type Correction = components["schemas"]["Correction"];
export type NewCorrection = components["schemas"]["NewCorrection"];
export type Description = components["schemas"]["Description"];

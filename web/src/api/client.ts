import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

export type Card = components["schemas"]["Card"];
export type Visit = components["schemas"]["Visit"];
export type Trail = components["schemas"]["Trail"];
export type ProxySettings = components["schemas"]["ProxySettings"];
export type Checkup = components["schemas"]["Checkup"];
export type Hop = components["schemas"]["Hop"];
export type Evidence = components["schemas"]["Evidence"];
export type Level = components["schemas"]["Level"];
export type Whereabouts = components["schemas"]["Whereabouts"];
export type Place = components["schemas"]["PlaceReport"]["rows"][number];
export type Problem = components["schemas"]["Problem"];
export type Key = components["schemas"]["Key"];
export type NewKey = components["schemas"]["NewKey"];
export type Session = components["schemas"]["Session"];
export type Site = components["schemas"]["Site"];

/** The only code that fetches from the service. */
export const api = createClient<paths>({ baseUrl: "/" });

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
      hint: "Check that the service runs; this page tries again when you ask it to.",
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

import { keepPreviousData, useInfiniteQuery, useQuery } from "@tanstack/react-query";
import {
  api,
  placeOf,
  Refusal,
  timed,
  unwrap,
  type Card,
  type Editions,
  type ProxySettings,
  type Sites,
} from "./client";
import type { operations } from "./schema";

/** VisitFilter is what may stand in the query of lists and reports, beside the site. */
export type VisitFilter = Omit<
  NonNullable<operations["listVisits"]["parameters"]["query"]>,
  "site" | "cursor" | "limit"
>;

/** pauseMost is how long to wait at the most before what failed is asked again, in milliseconds: whoever looks sees it back within five seconds. */
export const pauseMost = 4000;

/** pauseAfter is how long to wait before what failed so often is asked again, in milliseconds. */
export const pauseAfter = (failures: number) => Math.min(pauseMost, 1000 * 2 ** failures);

/** useSites lists the sites. Where they are refused, they are asked for again, ever less often; whoever must sign in is not. */
export function useSites(enabled = true) {
  return useQuery<Sites>({
    queryKey: ["sites"],
    enabled,
    staleTime: Infinity,
    retryOnMount: false,
    refetchInterval: (query) => {
      const { error, errorUpdateCount } = query.state;
      const signedOut = error instanceof Refusal && error.problem.status === 401;
      return error && !signedOut ? pauseAfter(errorUpdateCount) : false;
    },
    queryFn: ({ signal }) => unwrap(api.GET("/v1/sites", { signal })),
  });
}

/** useOpen says whether the console is open: nothing else is asked before. */
const useOpen = () => useSites().data !== undefined;

export function useAtlas() {
  return useQuery({
    queryKey: ["atlas"],
    enabled: useOpen(),
    queryFn: ({ signal }) => unwrap(api.GET("/v1/atlas", { signal })),
  });
}

/** useReady asks every half minute whether visits can be accepted. */
export function useReady() {
  return useQuery({
    queryKey: ["ready"],
    enabled: useOpen(),
    refetchInterval: (query) => (query.state.data === false ? pauseMost : 30_000),
    queryFn: async ({ signal }) => {
      const answer = await fetch("/readyz", { signal });
      const body = (await answer.json()) as { database?: string };
      return answer.ok && body.database === "answers";
    },
  });
}

/** useCard asks for a card; with all, the evidence lists every range that holds the address. */
export function useCard(address: string, all = false) {
  return useQuery<Card>({
    queryKey: ["card", address, all],
    enabled: address !== "",
    placeholderData: (before) => (before?.address.text === address ? before : undefined),
    queryFn: ({ signal }) =>
      unwrap(
        api.GET("/v1/addresses/{address}", {
          params: { path: { address }, query: all ? { why: "all" } : {} },
          signal,
        }),
      ),
  });
}

export function useVisits(site: string, filter: VisitFilter) {
  return useInfiniteQuery({
    queryKey: ["visits", site, filter],
    enabled: site !== "",
    placeholderData: keepPreviousData,
    initialPageParam: "",
    queryFn: ({ pageParam, signal }) =>
      unwrap(
        api.GET("/v1/visits", {
          params: { query: { ...filter, site, limit: 50, ...(pageParam ? { cursor: pageParam } : {}) } },
          signal,
        }),
      ),
    getNextPageParam: (page) => page.next,
  });
}

export function useVisit(id: string) {
  return useQuery({
    queryKey: ["visit", id],
    enabled: id !== "",
    queryFn: ({ signal }) => unwrap(api.GET("/v1/visits/{id}", { params: { path: { id } }, signal })),
  });
}

export function usePlaces(site: string, filter: VisitFilter) {
  return useQuery({
    queryKey: ["places", site, filter],
    enabled: site !== "",
    placeholderData: keepPreviousData,
    queryFn: async ({ signal }) => {
      const report = await reportOf("places", { ...filter, site, limit: 50_000 }, signal);
      return { ...report, rows: report.rows.map(placeOf) };
    },
  });
}

type By = operations["getReport"]["parameters"]["path"]["by"];
type Query = NonNullable<operations["getReport"]["parameters"]["query"]>;

const reportOf = (by: By, query: Query, signal: AbortSignal) =>
  unwrap(api.GET("/v1/reports/{by}", { params: { path: { by }, query }, signal }));

/** useReport asks for visits by something. */
export function useReport(by: By, query: Query) {
  return useQuery({
    queryKey: ["report", by, query],
    enabled: query.site !== "",
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) => reportOf(by, query, signal),
  });
}

/** useTimeline asks for visits by units of time, in the site's own zone. */
export function useTimeline(query: NonNullable<operations["getTimeline"]["parameters"]["query"]>) {
  return useQuery({
    queryKey: ["timeline", query],
    enabled: query.site !== "",
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) => unwrap(api.GET("/v1/reports/timeline", { params: { query }, signal })),
  });
}

/** useVisitsState asks how visits are kept and what waits. */
export function useVisitsState() {
  return useQuery({
    queryKey: ["visits-state"],
    refetchInterval: 30_000,
    queryFn: ({ signal }) => unwrap(api.GET("/v1/visits/state", { signal })),
  });
}

export function useKeyList() {
  return useQuery({ queryKey: ["keys"], queryFn: ({ signal }) => unwrap(api.GET("/v1/keys", { signal })) });
}

/** useMade lists what was made with a key; null asks for none. */
export function useMade(id: string | null) {
  return useQuery({
    queryKey: ["made", id],
    enabled: id !== null,
    queryFn: ({ signal }) =>
      unwrap(api.GET("/v1/keys/{id}/made", { params: { path: { id: id ?? "" } }, signal })),
  });
}

export function useSessions(enabled: boolean) {
  return useQuery({
    queryKey: ["sessions"],
    enabled,
    queryFn: ({ signal }) => unwrap(api.GET("/v1/sessions", { signal })),
  });
}

export function useAudit(enabled: boolean) {
  return useQuery({
    queryKey: ["audit"],
    enabled,
    queryFn: ({ signal }) => unwrap(api.GET("/v1/audit-log", { params: { query: { limit: 100 } }, signal })),
  });
}

/** useRefusedRequests asks every half minute what was refused before a visit was made of it. */
export function useRefusedRequests(site: string) {
  return useQuery({
    queryKey: ["refused-requests", site],
    enabled: useOpen() && site !== "",
    refetchInterval: 30_000,
    queryFn: ({ signal }) => unwrap(api.GET("/v1/refused-requests", { params: { query: { site } }, signal })),
  });
}

/** useCheckup asks every minute what is wrong with the set-up. */
export function useCheckup() {
  return useQuery({
    queryKey: ["checkup"],
    enabled: useOpen(),
    refetchInterval: 60_000,
    queryFn: ({ signal }) => unwrap(api.GET("/v1/checkup", { signal })),
  });
}

/** Asked is a request to explain: pasted, or null for the page's own. */
export type Asked = { peer: string; text: string } | null;

/** useTrail explains a request under settings; null stands for those in use. */
export function useTrail(asked: Asked, settings: ProxySettings | null) {
  return useQuery({
    queryKey: ["trail", asked, settings],
    enabled: asked === null || (asked.peer !== "" && asked.text !== ""),
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) =>
      unwrap(
        api.POST("/v1/trails", { body: { ...(asked ?? {}), ...(settings ? { settings } : {}) }, signal }),
      ),
  });
}

/** useEditions lists the editions; while one is being built it asks every second. */
export function useEditions() {
  return useQuery<Editions>({
    queryKey: ["editions"],
    enabled: useOpen(),
    refetchInterval: (query) => (query.state.data?.job.running ? 1000 : false),
    queryFn: ({ signal }) => unwrap(api.GET("/v1/atlas/editions", { signal })),
  });
}

/** useChanges compares an edition with the one in use. */
export function useChanges(then: string, now: string) {
  return useQuery({
    queryKey: ["changes", now, then],
    enabled: then !== "",
    staleTime: 60_000,
    queryFn: ({ signal }) => unwrap(api.GET("/v1/atlas/changes", { params: { query: { then } }, signal })),
  });
}

export function useCoverage(edition: string) {
  return useQuery({
    queryKey: ["coverage", edition],
    enabled: edition !== "",
    queryFn: ({ signal }) =>
      unwrap(api.GET("/v1/atlas/coverage", { params: { query: { edition } }, signal })),
  });
}

/** useAccuracy holds an edition against the test points of the configuration. */
export function useAccuracy(edition: string) {
  return useQuery({
    queryKey: ["accuracy", edition],
    enabled: edition !== "",
    retry: false,
    queryFn: ({ signal }) =>
      unwrap(api.GET("/v1/atlas/accuracy", { params: { query: { edition } }, signal })),
  });
}

export function useCorrections() {
  return useQuery({
    queryKey: ["corrections"],
    queryFn: ({ signal }) => unwrap(api.GET("/v1/corrections", { signal })),
  });
}

export function useCountries(site: string) {
  return useQuery({
    queryKey: ["countries", site],
    enabled: site !== "",
    queryFn: ({ signal }) => reportOf("countries", { site }, signal),
  });
}

/** useSnippets writes code to paste for a choice of fields. */
export function useSnippets(fields: string, base: string) {
  return useQuery({
    queryKey: ["snippets", fields, base],
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: ({ signal }) =>
      unwrap(api.GET("/v1/snippets", { params: { query: { fields, ...(base ? { base } : {}) } }, signal })),
  });
}

/** useTimed asks for a path and tells what the answer took. */
export function useTimed(path: string, enabled: boolean) {
  return useQuery({
    queryKey: ["timed", path],
    enabled,
    placeholderData: keepPreviousData,
    staleTime: Infinity,
    queryFn: ({ signal }) => timed(path, signal),
  });
}

export function useRates() {
  return useQuery({ queryKey: ["rates"], queryFn: ({ signal }) => unwrap(api.GET("/v1/rates", { signal })) });
}

export function useVariants(site: string) {
  return useQuery({
    queryKey: ["variants", site],
    enabled: site !== "",
    queryFn: ({ signal }) => unwrap(api.GET("/v1/variants", { params: { query: { site } }, signal })),
  });
}

/** useCountryChoices lists countries to pick from. */
export function useCountryChoices() {
  return useQuery({
    queryKey: ["country-choices"],
    staleTime: Infinity,
    queryFn: ({ signal }) => unwrap(api.GET("/v1/countries", { signal })),
  });
}

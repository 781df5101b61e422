import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { api, unwrap } from "./client";
import type { components } from "./schema";

export type VisitCoverage = components["schemas"]["VisitCoverage"];
export type OperatorKnown = components["schemas"]["OperatorKnown"];
export type GatheredFeed = components["schemas"]["GatheredFeed"];

/** useVisitCoverage asks how well an edition knows the addresses of the visits of the last 30 days. */
export function useVisitCoverage(edition: string) {
  return useQuery({
    queryKey: ["visit-coverage", edition],
    queryFn: ({ signal }) => unwrap(api.GET("/v1/atlas/visits", { params: { query: { edition } }, signal })),
  });
}

/** useFeeds asks for the geofeeds that are gathered, a page at a time. */
export function useFeeds() {
  return useInfiniteQuery({
    queryKey: ["feeds"],
    initialPageParam: "",
    queryFn: ({ signal, pageParam }) =>
      unwrap(
        api.GET("/v1/atlas/feeds", {
          params: { query: { limit: 50, ...(pageParam && { cursor: pageParam }) } },
          signal,
        }),
      ),
    getNextPageParam: (page) => page.next ?? undefined,
  });
}

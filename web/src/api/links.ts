import { keepPreviousData, useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { api, unwrap } from "./client";
import type { components } from "./schema";

export type TrackedLink = components["schemas"]["Link"];
export type LinkRow = components["schemas"]["LinkRow"];
export type LinkReport = components["schemas"]["LinkReport"];
export type LinkFigures = components["schemas"]["LinkFigures"];
export type LinkPlace = components["schemas"]["LinkPlace"];
export type LinkRoute = components["schemas"]["LinkRoute"];

export type Standing = "all" | "active" | "ended";

/** refreshed is how often what arrives while a page is open is asked for again, in milliseconds. */
const refreshed = 15_000;

/** useLinks lists the links of a site, a page after the other. */
export function useLinks(site: string, state: Standing, search: string) {
  return useInfiniteQuery({
    queryKey: ["links", site, state, search],
    enabled: site !== "",
    placeholderData: keepPreviousData,
    refetchInterval: refreshed,
    initialPageParam: "",
    queryFn: ({ signal, pageParam }) =>
      unwrap(
        api.GET("/v1/links", {
          params: {
            query: {
              site,
              ...(state === "all" ? {} : { state }),
              ...(search ? { search } : {}),
              ...(pageParam ? { cursor: pageParam } : {}),
            },
          },
          signal,
        }),
      ),
    getNextPageParam: (last) => last.next ?? undefined,
  });
}

/** useClicks says who followed a link in the last days, beside another if there is one. */
export function useClicks(code: string, days: number, compare: string) {
  return useQuery({
    queryKey: ["clicks", code, days, compare],
    enabled: code !== "",
    placeholderData: keepPreviousData,
    refetchInterval: refreshed,
    queryFn: ({ signal }) =>
      unwrap(
        api.GET("/v1/links/{code}/clicks", {
          params: { path: { code }, query: { days, ...(compare ? { compare } : {}) } },
          signal,
        }),
      ),
  });
}

import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, unwrap } from "./client";
import type { components } from "./schema";

type Schemas = components["schemas"];
export type Companion = Schemas["CompanionState"];
export type CompanionSaid = Schemas["CompanionSaid"];
export type CompanionList = Schemas["CompanionList"];
export type CompanionParameter = Schemas["CompanionParameter"];
export type CompanionValue = Schemas["CompanionValue"];
export type CompanionCategory = Schemas["CompanionCategory"];
export type CompanionAnswer = Schemas["CompanionAnswer"];
export type CompanionTried = Schemas["CompanionTried"];
export type CompanionLine = Schemas["CompanionLine"];

/** refreshed is how often how companions stand is asked for again, in milliseconds. */
const refreshed = 15_000;

/** useCompanions lists the companions of a site; "" asks nothing. */
export function useCompanions(site: string) {
  return useQuery({
    queryKey: ["companions", site],
    enabled: site !== "",
    refetchInterval: refreshed,
    queryFn: ({ signal }) => unwrap(api.GET("/v1/companions", { params: { query: { site } }, signal })),
  });
}

/** tryCompanion tries what is said of a companion with made-up visitors. */
export const tryCompanion = (
  site: string,
  body: { name: string; said: CompanionSaid; visitors: string[]; ask: boolean },
  signal?: AbortSignal,
) =>
  unwrap(
    api.POST("/v1/companions/try", {
      params: { query: { site } },
      body,
      ...(signal ? { signal } : {}),
    }),
  );

/** useTries reads the answers that are kept for some visitors, as a companion is said now; that costs no question. */
export function useTries(site: string, name: string, said: CompanionSaid, visitors: string[]) {
  return useQuery({
    queryKey: ["companion-tries", site, name, said, visitors],
    enabled: said.title.trim() !== "" && said.url.trim() !== "",
    placeholderData: keepPreviousData,
    refetchInterval: refreshed,
    retry: false,
    queryFn: ({ signal }) => tryCompanion(site, { name, said, visitors, ask: false }, signal),
  });
}

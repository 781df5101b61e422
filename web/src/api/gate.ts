import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, unwrap, type GateRules, type RehearsalRequest } from "./client";

export function useGate(site: string) {
  return useQuery({
    queryKey: ["gate", site],
    enabled: site !== "",
    refetchInterval: 60_000,
    queryFn: ({ signal }) => unwrap(api.GET("/v1/gate", { params: { query: { site } }, signal })),
  });
}

export function useGateHistory(site: string) {
  return useQuery({
    queryKey: ["gate-history", site],
    enabled: site !== "",
    queryFn: ({ signal }) =>
      unwrap(api.GET("/v1/gate/history", { params: { query: { site, limit: 20 } }, signal })),
  });
}

/** useGateCheck says what is wrong with rules that are worked on. */
export function useGateCheck(site: string, rules: GateRules | null) {
  return useQuery({
    queryKey: ["gate-check", site, rules],
    enabled: site !== "" && rules !== null,
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) =>
      unwrap(
        api.POST("/v1/gate/check", {
          params: { query: { site } },
          body: { rules: rules ?? { exceptions: {}, gates: [] } },
          signal,
        }),
      ),
  });
}

/** useSimulation decides about the stored visits of the last week by rules, and by those in force. */
export function useSimulation(site: string, rules: GateRules | null) {
  return useQuery({
    queryKey: ["gate-simulation", site, rules],
    enabled: site !== "" && rules !== null,
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: ({ signal }) =>
      unwrap(
        api.POST("/v1/gate/simulate", {
          params: { query: { site } },
          body: rules ? { rules } : {},
          signal,
        }),
      ),
  });
}

/** useRehearsal tries visits from anywhere; nothing is stored. */
export function useRehearsal(request: RehearsalRequest | null) {
  return useQuery({
    queryKey: ["rehearsal", request],
    enabled: request !== null,
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: ({ signal }) =>
      unwrap(api.POST("/v1/rehearsals", { body: request ?? { visitors: [], paths: [] }, signal })),
  });
}

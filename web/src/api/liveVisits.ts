import { useCallback, useEffect, useState } from "react";
import type { Visit } from "./client";
import type { VisitFilter } from "./queries";
import { usePreferences } from "../components/preferences";
import { unveilURL, veilJSON } from "../features/presentation/veil";

/** kept is how many new visits are remembered. */
const kept = 99;

export interface LiveVisits {
  /** visits that came since the page began to listen, or since clear, the newest first. */
  visits: Visit[];
  /** waitingSince is when the stream broke; it goes on by itself. */
  waitingSince: Date | null;
  clear: () => void;
}

/** useLiveVisits follows visits as they are stored; where it is paused it forgets none. */
export function useLiveVisits(site: string, filter: VisitFilter = {}): LiveVisits {
  const veiled = usePreferences().presenting;
  const [visits, setVisits] = useState<Visit[]>([]);
  const [waitingSince, setWaiting] = useState<Date | null>(null);
  const search = new URLSearchParams({ site });
  for (const [key, value] of Object.entries(filter))
    // What comes now is after every beginning.
    if (value !== undefined && key !== "from") search.set(key, String(value));
  const query = search.toString();
  useEffect(() => {
    if (!site) return;
    const source = new EventSource(unveilURL(new URL(`/v1/visits/stream?${query}`, location.href).href));
    source.onopen = () => setWaiting(null);
    source.onerror = () => setWaiting((since) => since ?? new Date());
    source.addEventListener("visit", (e) => {
      const { data } = e as MessageEvent<string>;
      const visit = JSON.parse(veiled ? veilJSON(data) : data) as Visit;
      setVisits((before) => [visit, ...before].slice(0, kept));
    });
    return () => {
      source.close();
      setVisits([]);
    };
  }, [site, query, veiled]);
  const clear = useCallback(() => setVisits([]), []);
  return { visits, waitingSince, clear };
}

import { createContext, useContext, useMemo, useState, type ReactNode } from "react";
import type { Site } from "../api/client";
import { useSites } from "../api/queries";

interface Chosen {
  /** site is null until the sites are known. */
  site: Site | null;
  sites: Site[];
  choose: (host: string) => void;
  /** refused is why the sites are not known, and again asks for them. */
  refused: unknown;
  again: () => void;
}

const Context = createContext<Chosen>({
  site: null,
  sites: [],
  choose: () => undefined,
  refused: null,
  again: () => undefined,
});

export const useSite = () => useContext(Context);

/** useLastRefusal is why the sites were refused last, also while they are asked for again; null once they are known. */
export function useLastRefusal(enabled = true): unknown {
  const { data, error } = useSites(enabled);
  const [last, setLast] = useState<unknown>(null);
  const now = data && !error ? null : (error ?? last);
  if (now !== last) setLast(now);
  return now;
}

/** SiteProvider keeps which site's visits the pages show. */
export function SiteProvider({ children }: { children: ReactNode }) {
  const { data, refetch } = useSites();
  const error = useLastRefusal();
  const [host, setHost] = useState(() => localStorage.getItem("ep-site"));
  const value = useMemo<Chosen>(() => {
    const sites = data?.sites ?? [];
    return {
      sites,
      site: sites.find((s) => s.host === host) ?? sites[0] ?? null,
      choose: (next) => {
        localStorage.setItem("ep-site", next);
        setHost(next);
      },
      refused: data ? null : error,
      again: () => void refetch(),
    };
  }, [data, error, refetch, host]);
  return <Context value={value}>{children}</Context>;
}

import { createContext, useContext, useMemo, useState, type ReactNode } from "react";
import type { Site } from "../api/client";
import { useSites } from "../api/queries";

interface Chosen {
  /** site is null until the sites are known. */
  site: Site | null;
  sites: Site[];
  choose: (host: string) => void;
}

const Context = createContext<Chosen>({ site: null, sites: [], choose: () => undefined });

export const useSite = () => useContext(Context);

/** SiteProvider keeps which site's visits the pages show. */
export function SiteProvider({ children }: { children: ReactNode }) {
  const { data } = useSites();
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
    };
  }, [data, host]);
  return <Context value={value}>{children}</Context>;
}

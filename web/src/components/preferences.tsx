import { createContext, useContext, useEffect, useMemo, useState, type ReactNode } from "react";
import { isVeiled, setVeiled } from "../features/presentation/veil";
import { variables, type Mode } from "../theme/theme";

interface Preferences {
  mode: Mode;
  toggleMode: () => void;
  /** presenting masks every address on screen. */
  presenting: boolean;
  setPresenting: (on: boolean) => void;
}

const Context = createContext<Preferences | null>(null);

export function usePreferences(): Preferences {
  const value = useContext(Context);
  if (!value) throw new Error("usePreferences stands outside PreferencesProvider");
  return value;
}

const dark = () => window.matchMedia("(prefers-color-scheme: dark)");

/** PreferencesProvider keeps light or dark (following the system until chosen) and presentation. */
export function PreferencesProvider({ children }: { children: ReactNode }) {
  const [chosen, setChosen] = useState(() => localStorage.getItem("ep-mode") as Mode | null);
  const [system, setSystem] = useState<Mode>(() => (dark().matches ? "dark" : "light"));
  const [presenting, setPresentingState] = useState(isVeiled);
  const mode = chosen ?? system;

  useEffect(() => {
    const follow = (e: MediaQueryListEvent) => setSystem(e.matches ? "dark" : "light");
    const query = dark();
    query.addEventListener("change", follow);
    return () => query.removeEventListener("change", follow);
  }, []);

  useEffect(() => {
    const root = document.documentElement;
    root.dataset.mode = mode;
    root.style.colorScheme = mode;
    for (const [name, value] of Object.entries(variables(mode))) root.style.setProperty(name, value);
  }, [mode]);

  const value = useMemo<Preferences>(
    () => ({
      mode,
      toggleMode: () => {
        const next = mode === "dark" ? "light" : "dark";
        localStorage.setItem("ep-mode", next);
        setChosen(next);
      },
      presenting,
      setPresenting: (on) => {
        setVeiled(on);
        setPresentingState(on);
      },
    }),
    [mode, presenting],
  );
  return <Context value={value}>{children}</Context>;
}

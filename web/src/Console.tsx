import { QueryCache, QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { App, ConfigProvider } from "antd";
import { useState, type ReactNode } from "react";
import { BrowserRouter, Navigate, Route, Routes, useLocation } from "react-router";
import { Refusal, signedOut } from "./api/client";
import { useSites } from "./api/queries";
import { PreferencesProvider, usePreferences } from "./components/preferences";
import { Shell } from "./components/Shell";
import { SiteProvider, useLastRefusal } from "./components/site";
import { Bars, Boundary } from "./components/states";
import { SignInOver, SignInPage } from "./pages/signin/SignInPage";
import { allRoutes } from "./routes";
import { themeOf } from "./theme/theme";

function newQueries(): QueryClient {
  const queries = new QueryClient({
    queryCache: new QueryCache({
      // A session that has ended shows at the sites, which the gate below watches.
      onError: (error, query) => {
        if (error instanceof Refusal && error.problem.status === 401 && query.queryKey[0] !== "sites")
          void queries.invalidateQueries({ queryKey: ["sites"] });
      },
    }),
    defaultOptions: { queries: { retry: false, refetchOnWindowFocus: false, staleTime: 10_000 } },
  });
  // Also what is saved may be refused for that.
  signedOut.addEventListener("out", () => void queries.invalidateQueries({ queryKey: ["sites"] }));
  return queries;
}

interface ConsoleProps {
  root: HTMLElement;
  /** unstyled makes no styles, which take longer than all else where nothing is laid out. */
  unstyled?: boolean;
}

function Themed({ root, unstyled, children }: ConsoleProps & { children: ReactNode }) {
  const { mode } = usePreferences();
  return (
    <ConfigProvider
      theme={{ ...themeOf(mode), zeroRuntime: unstyled === true }}
      wave={{ disabled: true }}
      csp={{ nonce }}
      getPopupContainer={() => root}
    >
      <App style={{ height: "100%" }}>{children}</App>
    </ConfigProvider>
  );
}

/** nonce lets the styles that Ant Design makes at run time pass the content-security policy. */
const nonce = document.querySelector<HTMLMetaElement>("meta[property=csp-nonce]")?.nonce ?? "";

/**
 * Gate shows the sign-in page to whoever is not signed in. Where a session has ended, the page stays as it is behind
 * it, with all that was typed.
 */
function Gate({ root, children }: { root: HTMLElement; children: ReactNode }) {
  const { pathname } = useLocation();
  const { data } = useSites(pathname !== "/sign-in");
  const refused = useLastRefusal(pathname !== "/sign-in");
  const out = refused instanceof Refusal && refused.problem.status === 401;
  if (pathname === "/sign-in" || (out && !data)) return <SignInPage />;
  if (data)
    return (
      <>
        {children}
        {out && <SignInOver root={root} />}
      </>
    );
  return refused ? children : <Bars label="The console is opening" />;
}

/** Console is all of it. What opens over the page stands in root too, so that nothing locks the body with a style of its own. */
export function Console({ root, unstyled = false }: ConsoleProps) {
  const [queries] = useState(newQueries);
  return (
    <PreferencesProvider>
      <Themed root={root} unstyled={unstyled}>
        <QueryClientProvider client={queries}>
          <BrowserRouter>
            <Gate root={root}>
              <SiteProvider>
                <Routes>
                  {allRoutes.map((route) => (
                    <Route
                      key={route.path}
                      path={route.path}
                      element={
                        <Shell route={route}>
                          <Boundary key={route.path}>
                            <route.page />
                          </Boundary>
                        </Shell>
                      }
                    />
                  ))}
                  <Route path="*" element={<Navigate to="/today" replace />} />
                </Routes>
              </SiteProvider>
            </Gate>
          </BrowserRouter>
        </QueryClientProvider>
      </Themed>
    </PreferencesProvider>
  );
}

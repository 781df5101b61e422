import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { App, ConfigProvider } from "antd";
import { useEffect, useState, type ReactNode } from "react";
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

const newQueries = () =>
  new QueryClient({
    defaultOptions: { queries: { retry: false, refetchOnWindowFocus: false, staleTime: 10_000 } },
  });

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
  // A service that goes away meanwhile does not sign anybody in.
  const [out, setOut] = useState(false);
  const isOut = refused !== null && (out || (refused instanceof Refusal && refused.problem.status === 401));
  if (isOut !== out) setOut(isOut);
  if (pathname === "/sign-in" || (isOut && !data)) return <SignInPage />;
  if (data)
    return (
      <>
        {children}
        {isOut && <SignInOver root={root} />}
      </>
    );
  return refused ? children : <Bars label="The console is opening" />;
}

/** Console is all of it. What opens over the page stands in root too, so that nothing locks the body with a style of its own. */
export function Console({ root, unstyled = false }: ConsoleProps) {
  const [queries] = useState(newQueries);
  // That a session has ended shows at the sites, which the gate watches.
  useEffect(() => {
    const look = () => void queries.invalidateQueries({ queryKey: ["sites"] });
    signedOut.addEventListener("out", look);
    return () => signedOut.removeEventListener("out", look);
  }, [queries]);
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

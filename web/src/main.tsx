import "@fontsource-variable/literata";
import "@fontsource-variable/source-code-pro";
import "@fontsource-variable/source-sans-3";
import "./theme/base.css";
import "./theme/shell.css";
import "./theme/pages.css";

import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { App, ConfigProvider } from "antd";
import { StrictMode, type ReactNode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Navigate, Route, Routes } from "react-router";
import { PreferencesProvider, usePreferences } from "./components/preferences";
import { Shell } from "./components/Shell";
import { SiteProvider } from "./components/site";
import { Boundary } from "./components/states";
import { routes } from "./routes";
import { themeOf } from "./theme/theme";

const queries = new QueryClient({
  defaultOptions: { queries: { retry: false, refetchOnWindowFocus: false, staleTime: 10_000 } },
});

function Themed({ children }: { children: ReactNode }) {
  const { mode } = usePreferences();
  return (
    <ConfigProvider theme={themeOf(mode)} wave={{ disabled: true }}>
      <App style={{ height: "100%" }}>{children}</App>
    </ConfigProvider>
  );
}

const root = document.getElementById("root");
if (!root) throw new Error("the page has no #root");
createRoot(root).render(
  <StrictMode>
    <PreferencesProvider>
      <Themed>
        <QueryClientProvider client={queries}>
          <SiteProvider>
            <BrowserRouter>
              <Routes>
                {routes.map((route) => (
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
                <Route path="*" element={<Navigate to="/visits" replace />} />
              </Routes>
            </BrowserRouter>
          </SiteProvider>
        </QueryClientProvider>
      </Themed>
    </PreferencesProvider>
  </StrictMode>,
);

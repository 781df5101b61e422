import "@fontsource-variable/literata";
import "@fontsource-variable/source-code-pro";
import "@fontsource-variable/source-sans-3";
import "./theme/base.css";
import "./theme/parts.css";
import "./theme/maps.css";
import "./theme/shell.css";

import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { Console } from "./Console";

const root = document.getElementById("root");
if (!root) throw new Error("the page has no #root");
createRoot(root).render(
  <StrictMode>
    <Console root={root} />
  </StrictMode>,
);

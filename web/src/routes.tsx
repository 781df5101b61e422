import type { ComponentType } from "react";
import type { IconName } from "./components/icons";
import { AtlasPage } from "./pages/atlas/AtlasPage";
import { CompanionsPage } from "./pages/companions/CompanionsPage";
import { GatePage } from "./pages/gate/GatePage";
import { NoticesPage } from "./pages/notices/NoticesPage";
import { RehearsePage } from "./pages/rehearse/RehearsePage";
import { LinksPage } from "./pages/links/LinksPage";
import { LookupPage } from "./pages/lookup/LookupPage";
import { ManyPage } from "./pages/lookup/ManyPage";
import { SetupPage } from "./pages/setup/SetupPage";
import { MapPage } from "./pages/map/MapPage";
import { TodayPage } from "./pages/today/TodayPage";
import { VisitsPage } from "./pages/visits/VisitsPage";
import { TrailPage } from "./pages/trail/TrailPage";

export interface Route {
  path: string;
  title: string;
  line: string;
  group: "Traffic" | "Tools" | "Settings";
  icon: IconName;
  /** key opens the page after g. */
  key: string;
  page: ComponentType;
  /** flush pages fill all below the bar. */
  flush?: boolean;
  /** within is the path of the page that this one belongs to; it has no entry of its own. */
  within?: string;
}

/** The pages, in the order of the rail. */
const pages: Route[] = [
  {
    path: "/today",
    title: "Today",
    line: "Today’s visits, where they came from, and what needs attention",
    group: "Traffic",
    icon: "today",
    key: "t",
    page: TodayPage,
  },
  {
    path: "/visits",
    title: "Visits",
    line: "All stored visits, the newest first",
    group: "Traffic",
    icon: "visits",
    key: "v",
    page: VisitsPage,
  },
  {
    path: "/map",
    title: "Map",
    line: "Where visits come from",
    group: "Traffic",
    icon: "map",
    key: "m",
    page: MapPage,
    flush: true,
  },
  {
    path: "/lookup",
    title: "Look up",
    line: "Where an address is, and the evidence",
    group: "Tools",
    icon: "lookup",
    key: "l",
    page: LookupPage,
  },
  {
    path: "/lookup/many",
    title: "Look up",
    line: "Locate many addresses at once",
    group: "Tools",
    icon: "lookup",
    key: "",
    page: ManyPage,
    within: "/lookup",
  },
  {
    path: "/trail",
    title: "Trail",
    line: "How the visitor of a request is found, hop by hop",
    group: "Tools",
    icon: "trail",
    key: "r",
    page: TrailPage,
  },
  {
    path: "/rehearse",
    title: "Rehearse",
    line: "What visitors from anywhere get; nothing is stored",
    group: "Tools",
    icon: "rehearse",
    key: "h",
    page: RehearsePage,
  },
  {
    path: "/gate",
    title: "Gate",
    line: "Who is admitted, decided on the server",
    group: "Settings",
    icon: "gate",
    key: "g",
    page: GatePage,
  },
  {
    path: "/links",
    title: "Links",
    line: "Short addresses, and who followed them",
    group: "Settings",
    icon: "link",
    key: "k",
    page: LinksPage,
  },
  {
    path: "/companions",
    title: "Companions",
    line: "A second service, asked with the place alone",
    group: "Settings",
    icon: "companion",
    key: "c",
    page: CompanionsPage,
  },
  {
    path: "/notices",
    title: "Notices",
    line: "A message when asked, or when a rule is met",
    group: "Settings",
    icon: "mail",
    key: "n",
    page: NoticesPage,
  },
  {
    path: "/atlas",
    title: "Atlas",
    line: "Sources, editions, accuracy and coverage of the range data",
    group: "Settings",
    icon: "atlas",
    key: "a",
    page: AtlasPage,
  },
  {
    path: "/setup",
    title: "Set-up",
    line: "Proxy check, code snippets, localization and keys",
    group: "Settings",
    icon: "setup",
    key: "s",
    page: SetupPage,
  },
];

/** allRoutes are the pages; routes are those that have an entry in the menu. */
export const allRoutes = pages;
export const routes = pages.filter((p) => !p.within);

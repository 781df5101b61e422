import { counted } from "./format";
import { Dropdown, Input, Modal, Switch, type InputRef } from "antd";
import { useEffect, useRef, useState, type ReactNode } from "react";
import { useQueryClient } from "@tanstack/react-query";
import { Link, useLocation, useNavigate } from "react-router";
import { useCompanions } from "../api/companions";
import { useGate } from "../api/gate";
import { useNotices, type NoticeList } from "../api/notices";
import { useAtlas, useCheckup, useEditions, useReady } from "../api/queries";
import { routes, type Route } from "../routes";
import { lookupPath } from "./addressParam";
import { Failures } from "./Failures";
import { Icon, Mark } from "./icons";
import { Prose } from "./parts";
import { usePreferences } from "./preferences";
import { useSite } from "./site";
import { Bars, Failed } from "./states";

/** Shell is the rail, the bar and the content of one page. */
export function Shell({ route, children }: { route: Route; children: ReactNode }) {
  const quick = useRef<InputRef>(null);
  const [help, setHelp] = useState(false);
  const { site, refused, again } = useSite();
  useKeys(() => quick.current?.focus(), setHelp);
  useEffect(() => {
    document.title = `${route.title} · East Porch`;
  }, [route.title]);
  return (
    <div className="shell">
      <a className="skip" href="#content">
        Skip to the content
      </a>
      <Rail />
      <div className="main">
        <Bar route={route} quick={quick} />
        {site && <Failures />}
        {route.path !== "/setup" && route.path !== "/today" && <Banner at={route.path} />}
        <main id="content" tabIndex={-1} className={route.flush ? "content flush" : "content"}>
          {site ? (
            children
          ) : refused ? (
            <div className="panel">
              <Failed
                what="The console could not be loaded."
                error={refused}
                retry={again}
                after="Retrying automatically."
              />
            </div>
          ) : (
            <Bars label="The console is opening" />
          )}
        </main>
      </div>
      <nav className="tabs" aria-label="Pages">
        {routes.slice(0, onTabs).map((r) => (
          <PageLink key={r.path} route={r} />
        ))}
        <More current={route} />
      </nav>
      <Modal open={help} title="Keys" footer={null} onCancel={() => setHelp(false)}>
        <dl className="keys">
          <dt>
            <kbd>/</kbd>
          </dt>
          <dd>Look up an address</dd>
          {routes.map((r) => (
            <Shortcut key={r.key} route={r} />
          ))}
          <dt>
            <kbd>Esc</kbd>
          </dt>
          <dd>Close</dd>
        </dl>
      </Modal>
    </div>
  );
}

/** onTabs is how many pages a phone shows beside More. */
const onTabs = 4;

/** More opens the pages that have no tab of their own; one of them lights it up. */
function More({ current }: { current: Route }) {
  const navigate = useNavigate();
  const rest = routes.slice(onTabs);
  const items = rest.map((r) => ({ key: r.path, label: r.title, icon: <Icon name={r.icon} /> }));
  return (
    <Dropdown
      trigger={["click"]}
      placement="topRight"
      menu={{ items, selectedKeys: [current.path], onClick: (e) => void navigate(e.key) }}
    >
      <button type="button" aria-current={rest.includes(current) ? "page" : undefined}>
        <Icon name="more" />
        More
      </button>
    </Dropdown>
  );
}

/** told are the pages that say more of a finding, by its name. */
const told: Record<string, { path: string; title: string }> = {
  companions: { path: "/companions", title: "Companions" },
  notices: { path: "/notices", title: "Notices" },
};

const needsALook = (list: NoticeList) =>
  list.notices.some((n) => n.standing === "attention") ||
  list.channels.some((c) => c.standing === "fails" || c.standing === "gone");

/** Banner says that the checkup found something, until it is put away; another verdict shows again. */
function Banner({ at }: { at: string }) {
  const report = useCheckup().data;
  const [away, setAway] = useState("");
  if (report?.state !== "attention" || report.title === away) return null;
  const about = report.findings.find((f) => f.title === report.title)?.name;
  const to = (about && told[about]) || { path: "/setup", title: "Set-up" };
  if (at === to.path) return null; // which says more of it
  return (
    <div className="banner" role="status">
      <span className="attention-dot" aria-hidden="true" />
      <span>
        <Prose text={report.title} />
      </span>
      <Link to={to.path}>Open {to.title}</Link>
      <button
        type="button"
        className="iconbutton"
        aria-label="Put it away"
        onClick={() => setAway(report.title)}
      >
        <Icon name="close" />
      </button>
    </div>
  );
}

function Shortcut({ route }: { route: Route }) {
  return (
    <>
      <dt>
        <kbd>g</kbd> <kbd>{route.key}</kbd>
      </dt>
      <dd>Go to {route.title}</dd>
    </>
  );
}

function PageLink({ route }: { route: Route }) {
  const { pathname } = useLocation();
  const checkup = useCheckup().data;
  const editions = useEditions().data?.editions;
  const { site } = useSite();
  const gate = useGate(route.path === "/gate" ? (site?.host ?? "") : "").data;
  const companions = useCompanions(route.path === "/companions" ? (site?.host ?? "") : "").data?.companions;
  const notices = useNotices(route.path === "/notices" ? (site?.host ?? "") : "").data;
  return (
    <Link
      to={route.path}
      aria-current={pathname === route.path || pathname.startsWith(`${route.path}/`) ? "page" : undefined}
    >
      <Icon name={route.icon} />
      {route.title}
      {route.path === "/setup" && checkup?.state === "attention" && (
        <span className="attention-dot" role="img" aria-label="needs attention" />
      )}
      {route.path === "/gate" && (gate?.alarms ?? []).length > 0 && (
        <span className="attention-dot" role="img" aria-label="refusals need a look" />
      )}
      {route.path === "/companions" && companions?.some((c) => c.standing === "fails") && (
        <span className="attention-dot" role="img" aria-label="one fails" />
      )}
      {route.path === "/notices" && notices && needsALook(notices) && (
        <span className="attention-dot" role="img" aria-label="one needs a look" />
      )}
      {route.path === "/atlas" && editions?.some((e) => e.state === "ready") && (
        <span className="attention-dot" role="img" aria-label="an edition waits" />
      )}
    </Link>
  );
}

function SiteName({ name, host }: { name: string; host: string }) {
  return (
    <span>
      <b>{name}</b>
      <span className="small second">{host}</span>
    </span>
  );
}

function SiteSwitch() {
  const { site, sites, choose } = useSite();
  if (!site) return null;
  if (sites.length < 2)
    return (
      <div className="site">
        <SiteName {...site} />
      </div>
    );
  const items = sites.map((s) => ({ key: s.host, label: s.name }));
  return (
    <Dropdown trigger={["click"]} menu={{ items, selectedKeys: [site.host], onClick: (e) => choose(e.key) }}>
      <button type="button" className="site" aria-label={`Site: ${site.name}. Choose another`}>
        <SiteName {...site} />
        <Icon name="down" />
      </button>
    </Dropdown>
  );
}

function Rail() {
  const atlas = useAtlas().data;
  const ready = useReady();
  return (
    <div className="rail">
      <div className="brand serif">
        <Mark />
        East Porch
      </div>
      <SiteSwitch />
      <nav aria-label="Pages">
        {(["Traffic", "Tools", "Settings"] as const).map((group) => {
          const pages = routes.filter((r) => r.group === group);
          return (
            pages.length > 0 && (
              <section key={group}>
                <h2>{group}</h2>
                {pages.map((r) => (
                  <PageLink key={r.path} route={r} />
                ))}
              </section>
            )
          );
        })}
      </nav>
      {atlas && (
        <footer>
          Edition {atlas.name}
          <br />
          <span className={ready.data === false || ready.isError ? "ready not" : "ready"}>
            {counted(atlas.sources.length, "source")},{" "}
            {ready.isError
              ? "no answer from the service"
              : ready.data === false
                ? "the database is away"
                : "ready"}
          </span>
        </footer>
      )}
    </div>
  );
}

/** covers says what Presentation does. */
const covers =
  "Hides addresses in every spelling, e-mail addresses and visitors’ host names: on the screen, in what is copied or saved here, and in the page’s address. Exports are off meanwhile; the browser’s history from before stays.";

function Bar({ route, quick }: { route: Route; quick: React.RefObject<InputRef | null> }) {
  const { mode, toggleMode, presenting, setPresenting } = usePreferences();
  const queries = useQueryClient();
  const { site } = useSite();
  // What came before is asked for again: what has an address is hidden as it comes in.
  const present = (on: boolean) => {
    setPresenting(on);
    setText("");
    void queries.resetQueries({ predicate: (query) => query.queryKey[0] !== "sites" });
  };
  const navigate = useNavigate();
  const [text, setText] = useState("");
  const other = mode === "dark" ? "light" : "dark";
  return (
    <header className="bar">
      <Mark />
      <hgroup>
        <h1 className="serif">{route.title}</h1>
        <span className="phone small second">{site?.name}</span>
      </hgroup>
      <p className="line">{route.line}</p>
      {route.path !== "/lookup" && (
        <Input
          ref={quick}
          className="quick"
          aria-label="Look up an address"
          placeholder="Look up an address"
          prefix={<Icon name="lookup" />}
          suffix={<kbd aria-hidden="true">/</kbd>}
          type={presenting ? "password" : "text"}
          autoComplete="off"
          value={text}
          onChange={(e) => setText(e.target.value)}
          onPressEnter={() => {
            if (text.trim()) void navigate(lookupPath(text.trim(), presenting));
          }}
        />
      )}
      <label className="switch" title={covers}>
        <Switch
          size="small"
          checked={presenting}
          onChange={present}
          aria-label="Presentation: mask every address"
        />
        Presentation
      </label>
      <button
        type="button"
        className="iconbutton phone-preview"
        aria-label="Presentation: mask every address"
        aria-pressed={presenting}
        onClick={() => present(!presenting)}
      >
        <Icon name="eye" />
      </button>
      <button type="button" className="iconbutton" aria-label={`Turn to ${other}`} onClick={toggleMode}>
        <Icon name={mode === "dark" ? "sun" : "moon"} />
      </button>
    </header>
  );
}

/** useKeys listens for single keys outside of fields: / and ?, and g with a letter. */
function useKeys(lookUp: () => void, setHelp: (open: boolean) => void) {
  const navigate = useNavigate();
  const going = useRef(false);
  useEffect(() => {
    const onKey = (e: KeyboardEvent) => {
      const target = e.target as HTMLElement;
      if (e.ctrlKey || e.metaKey || e.altKey || target.closest("input, textarea, select, [contenteditable]"))
        return;
      if (going.current) {
        going.current = false;
        const route = routes.find((r) => r.key === e.key);
        if (route) void navigate(route.path);
        return;
      }
      if (e.key === "g") going.current = true;
      else if (e.key === "?") setHelp(true);
      else if (e.key === "/") {
        e.preventDefault();
        const field = document.querySelector<HTMLInputElement>("#lookup-field");
        if (field) field.focus();
        else lookUp();
      }
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [navigate, lookUp, setHelp]);
}

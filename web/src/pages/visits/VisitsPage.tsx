import "./visits.css";
import { Button, Dropdown } from "antd";
import { useCallback, useEffect, useRef } from "react";
import { Link } from "react-router";
import { useLiveVisits } from "../../api/liveVisits";
import { useVisit, useVisits } from "../../api/queries";
import type { Visit } from "../../api/client";
import { useRoute } from "../../components/addressParam";
import { counted, clockTime } from "../../components/format";
import { usePreferences } from "../../components/preferences";
import { Icon } from "../../components/icons";
import { Country, Steps } from "../../components/parts";
import { useSite } from "../../components/site";
import { Bars, Empty, Failed } from "../../components/states";
import { FilterChips } from "./FilterChips";
import { filterKeys, toQuery } from "./filters";
import { VisitPanel } from "./VisitPanel";
import { AddressOf, Marks, placeLine, VisitTable, within } from "./VisitTable";

/** VisitsPage lists every visit once, the newest first; one may stand open beside the list. */
export function VisitsPage() {
  const { site } = useSite();
  const [params, change] = useRoute();
  const filter = toQuery(params, site?.time_zone);
  const list = useVisits(site?.host ?? "", filter);
  const open = params.get("visit") ?? "";
  const setOpen = (id: string) =>
    change((next) => {
      if (id && id !== open) next.set("visit", id);
      else next.delete("visit");
    });
  const latest = useRef(setOpen);
  useEffect(() => {
    latest.current = setOpen;
  });
  const toggle = useCallback((id: string) => latest.current(id), []); // one and the same, so that rows stay as drawn

  const visits = list.data?.pages.flatMap((p) => p.visits) ?? [];
  const one = useVisit(open);
  const opened = visits.find((v) => v.id === open) ?? one.data;
  useEscape(open !== "", () => setOpen(""));

  const live = useLiveVisits(site?.host ?? "", filter);
  const showNew = () => {
    live.clear();
    void list.refetch();
  };
  const clear = () => change((next) => [...next.keys()].forEach((key) => next.delete(key)));
  const count = list.data?.pages[0]?.count;
  const filtered = filterKeys.some((k) => params.get(k));
  return (
    <div className={opened ? "visits with-visit" : "visits"}>
      <div className="chips" role="group" aria-label="Filters">
        {filtered && <span className="second">Shown:</span>}
        <FilterChips />
        <ExportMenu query={{ ...filter, site: site?.host ?? "" }} />
      </div>
      <section className="panel list" aria-label="Visits">
        {list.isPending ? (
          <Bars rows={8} label="Visits are loading" />
        ) : list.isError ? (
          <Failed
            what="The visits could not be loaded."
            error={list.error}
            retry={() => void list.refetch()}
          />
        ) : visits.length === 0 && count?.all === 0 ? (
          <Empty title="No visits yet." text="Send a visit with POST /v1/visits to see how one looks.">
            <Link to="/lookup">Look up an address</Link>
          </Empty>
        ) : visits.length === 0 ? (
          <Empty
            title="No visits match these filters."
            text={`${(count?.all ?? 0).toLocaleString("en")} visits are excluded by these filters.`}
          >
            <Button onClick={clear}>Clear the filters</Button>
          </Empty>
        ) : (
          <>
            <div className="list-head">
              <span>
                <b>
                  {count?.more && "More than "}
                  {counted(count?.matching ?? 0, "visit")}
                </b>
                {count && !count.more && count.all > count.matching && (
                  <span className="second">
                    {" "}
                    of {count.all.toLocaleString("en")};{" "}
                    {count.all - count.matching === 1
                      ? "1 visit is"
                      : `${(count.all - count.matching).toLocaleString("en")} visits are`}{" "}
                    excluded by these filters
                  </span>
                )}
              </span>
              {live.visits.length > 0 ? (
                <Button size="small" onClick={showNew}>
                  {live.visits.length} new
                </Button>
              ) : (
                <span className="small second">newest first</span>
              )}
            </div>
            <div className={list.isPlaceholderData ? "list-scroll dimmed" : "list-scroll"}>
              <div className="wide-only">
                <VisitTable visits={visits} open={opened ? open : ""} onOpen={toggle} />
              </div>
              <ul className="phone-only phone-list">
                {visits.map((v) => (
                  <PhoneRow key={v.id} visit={v} onOpen={() => setOpen(v.id)} />
                ))}
              </ul>
              {list.hasNextPage && (
                <p className="more">
                  <Button loading={list.isFetchingNextPage} onClick={() => void list.fetchNextPage()}>
                    Older visits
                  </Button>
                </p>
              )}
            </div>
          </>
        )}
      </section>
      {opened && <VisitPanel visit={opened} onClose={() => setOpen("")} />}
    </div>
  );
}

/** ExportMenu saves the visits that the filters leave, as a file. */
function ExportMenu({ query }: { query: Record<string, string | number | boolean | undefined> }) {
  const items = [
    { key: "csv", label: "CSV, for a spreadsheet" },
    { key: "ndjson", label: "NDJSON" },
    { key: "geojson", label: "GeoJSON" },
    { key: "parquet", label: "Parquet" },
  ];
  const save = (format: string) => {
    const search = new URLSearchParams({ format });
    for (const [key, value] of Object.entries(query)) if (value !== undefined) search.set(key, String(value));
    window.location.assign(`/v1/visits/export?${search}`);
  };
  const { presenting } = usePreferences();
  return (
    <Dropdown trigger={["click"]} menu={{ items, onClick: (e) => save(e.key) }} disabled={presenting}>
      <button
        type="button"
        className="filterchip add export"
        disabled={presenting}
        title={presenting ? "A file would have every address: turn Presentation off to export." : undefined}
      >
        Export <Icon name="down" />
      </button>
    </Dropdown>
  );
}

function PhoneRow({ visit, onOpen }: { visit: Visit; onOpen: () => void }) {
  const w = visit.card.location;
  const line = placeLine(visit);
  const aside = visit.card.address.skipped;
  return (
    <li className={aside ? "aside" : ""}>
      <div
        role="button"
        tabIndex={0}
        onClick={(e) => {
          if (!(e.target as HTMLElement).closest("a")) onOpen();
        }}
        onKeyDown={(e) => e.key === "Enter" && onOpen()}
      >
        <span className="row">
          <AddressOf visit={visit} short />
          <time className="small second" dateTime={visit.time}>
            {clockTime(visit.time)}
          </time>
        </span>
        <span className="row">
          {w.level === "none" ? (
            <span className="second">{line.head}</span>
          ) : (
            <Country
              code={w.country_code}
              name={w.level === "country" ? line.head : `${line.head}, ${line.below}`}
            />
          )}
          {w.level !== "none" && (
            <span className="level second">
              <Steps level={w.level} />
              {within(visit)}
            </span>
          )}
        </span>
        <span className="row">
          <code className="small second cut">{visit.path}</code>
          <Marks visit={visit} />
        </span>
      </div>
    </li>
  );
}

function useEscape(active: boolean, close: () => void) {
  useEffect(() => {
    if (!active) return;
    const onKey = (e: KeyboardEvent) => e.key === "Escape" && close();
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  });
}

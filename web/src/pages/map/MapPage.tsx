import { Button, Segmented } from "antd";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { Link } from "react-router";
import { useRoute } from "../../components/addressParam";
import type { Place, Report } from "../../api/client";
import { usePlaces, useReport } from "../../api/queries";
import { km } from "../../components/format";
import { Icon } from "../../components/icons";
import { LeftOut } from "../../components/LeftOut";
import { phone as phoneWidth, useNarrow } from "../../components/useNarrow";
import { Heads } from "../../components/Heads";
import { Flag, LevelMark } from "../../components/parts";
import { useSite } from "../../components/site";
import { Bars, Empty, Failed } from "../../components/states";
import { placeKey, type Group } from "../../map/cluster";
import { scaleBar } from "../../map/world";
import { WorldMap, type WorldHandle } from "../../map/WorldMap";
import { FilterChips } from "../visits/FilterChips";
import { toQuery } from "../visits/filters";
import { barEnd, spanTimes, TimeBar, type Span } from "./TimeBar";

const nameOf = (p: Place): string => p.names.city ?? p.names.region ?? p.names.country;

const groupName = (g: Group) => {
  const first = g.places[0];
  if (!first) return "";
  return g.places.length > 1 ? `Around ${nameOf(first)}` : nameOf(first);
};

type Twin = "Map" | "Table";
type Kind = "Visits" | "Share by country";

/** MapPage shows visits as circles, and the same as a table. */
export function MapPage() {
  const { site } = useSite();
  const [params] = useRoute();
  const [span, setSpan] = useState<Span>(null);
  const [opened] = useState(() => new Date());
  const zone = site?.time_zone ?? "UTC";
  const end = barEnd(zone, opened);
  const filter = { ...toQuery(params, zone), ...spanTimes(span, end) };
  const report = usePlaces(site?.host ?? "", filter);
  const [kind, setKind] = useState<Kind>("Visits");
  const countries = useReport("countries", { ...filter, site: site?.host ?? "" });
  const shares = useMemo(() => {
    if (kind === "Visits") return undefined;
    const most = Math.max(1, ...(countries.data?.rows.map((r) => (r.country_code ? r.visits : 0)) ?? []));
    return new Map(
      countries.data?.rows.flatMap((r) => (r.country_code ? [[r.country_code, r.visits / most]] : [])),
    );
  }, [kind, countries.data]);
  const [selected, setSelected] = useState("");
  const [view, setView] = useState<{ groups: Group[]; pixelsPerKm: number }>({ groups: [], pixelsPerKm: 0 });
  const [drawer, setDrawer] = useState(true);
  const [twin, setTwin] = useState<Twin>("Map");
  const phone = useNarrow(phoneWidth);
  const world = useRef<WorldHandle>(null);
  const onGroups = useCallback(
    (groups: Group[], pixelsPerKm: number) => setView({ groups, pixelsPerKm }),
    [],
  );
  useEffect(() => {
    const onKey = (e: KeyboardEvent) => {
      if ((e.target as HTMLElement).closest("input, [role=combobox]")) return;
      if (e.key === "t" && phone) setTwin((v) => (v === "Map" ? "Table" : "Map"));
      if (e.key === "t" && !phone) setDrawer((d) => !d);
      if (e.key === "Escape") setSelected("");
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [phone]);

  const rows = report.data?.rows ?? [];
  const bar = view.pixelsPerKm > 0 ? scaleBar(view.pixelsPerKm, 90) : null;
  const table =
    kind === "Share by country"
      ? countries.data && (
          <CountryTable report={countries.data} onClose={phone ? null : () => setDrawer(false)} />
        )
      : report.data && (
          <PlaceTable
            groups={view.groups}
            selected={selected}
            onSelect={setSelected}
            onMap={rows.reduce((n, p) => n + p.visits, 0)}
            all={report.data.total}
            noPoint={report.data.no_point}
            leftOut={report.data.left_out}
            onClose={phone ? null : () => setDrawer(false)}
          />
        );
  return (
    <div className={phone && twin === "Table" ? "mappage table-only" : "mappage"}>
      <div className="map-top">
        {!phone && (
          <Segmented<Kind> options={["Visits", "Share by country"]} value={kind} onChange={setKind} />
        )}
        {phone && <Segmented<Twin> options={["Map", "Table"]} value={twin} onChange={setTwin} />}
        <div className="chips" role="group" aria-label="Filters">
          <FilterChips />
        </div>
      </div>
      {report.isPending ? (
        <div className="panel map-state">
          <Bars label="The map is loading" />
        </div>
      ) : report.isError ? (
        <div className="panel map-state">
          <Failed
            what="The map could not be displayed."
            error={report.error}
            retry={() => void report.refetch()}
          />
        </div>
      ) : report.data.total === 0 ? (
        <div className="panel map-state">
          <Empty
            title={report.data.count.all === 0 ? "No visits yet." : "No visits match these filters."}
            text={`${report.data.count.all.toLocaleString("en")} visits in all.`}
          />
        </div>
      ) : (
        <WorldMap
          places={rows}
          nameOf={groupName}
          selected={selected}
          onSelect={setSelected}
          onGroups={onGroups}
          free={phone ? phoneRoom : drawer ? drawerRoom : wideRoom}
          handle={world}
          shares={shares}
        />
      )}
      {!phone && (
        <TimeBar
          site={site?.host ?? ""}
          zone={zone}
          filter={toQuery(params, zone)}
          end={end}
          span={span}
          onSpan={setSpan}
        />
      )}
      <div className="map-zoom" role="group" aria-label="Zoom">
        <button type="button" aria-label="Zoom in" onClick={() => world.current?.zoomBy(1.6)}>
          <Icon name="plus" />
        </button>
        <button type="button" aria-label="Zoom out" onClick={() => world.current?.zoomBy(1 / 1.6)}>
          <Icon name="minus" />
        </button>
        <button type="button" aria-label="Show all visits" onClick={() => world.current?.fit()}>
          <Icon name="fit" />
        </button>
      </div>
      {kind === "Share by country" && (
        <div className="map-legend small">
          <span>few</span>
          {[1, 2, 3, 4, 5].map((n) => (
            <i key={n} className={`shade step${n}`} aria-hidden="true" />
          ))}
          <span>many visits; each shade is twice the one before</span>
        </div>
      )}
      <div className="map-legend small" hidden={kind !== "Visits"}>
        <span>
          <svg viewBox="0 0 14 14" className="map key" aria-hidden="true">
            <circle className="cluster" cx="7" cy="7" r="6" />
          </svg>
          several places
        </span>
        <span>
          <svg viewBox="0 0 14 14" className="map key" aria-hidden="true">
            <circle className="ring dot" cx="7" cy="7" r="5.5" />
          </svg>
          true to its radius
        </span>
        <span>
          <svg viewBox="0 0 14 14" className="map key" aria-hidden="true">
            <circle className="ring wide" cx="7" cy="7" r="5.5" />
          </svg>
          country level only
        </span>
        {bar && (
          <span>
            <svg width={bar.pixels + 2} height="8" className="map key bare" aria-hidden="true">
              <path className="scale" d={`M1 1v5h${bar.pixels}v-5`} />
            </svg>
            {km(bar.km)}
          </span>
        )}
      </div>
      {phone ? (
        twin === "Table" && <div className="map-table">{table}</div>
      ) : drawer ? (
        <aside className="map-drawer" aria-label="Table of the map">
          {table}
        </aside>
      ) : (
        <Button className="map-open" onClick={() => setDrawer(true)}>
          Table
        </Button>
      )}
    </div>
  );
}

const phoneRoom = { right: 0, bottom: 60 };
const wideRoom = { right: 0, bottom: 150 };
const drawerRoom = { right: 376, bottom: 150 };

/** CountryTable lists the visits of each country and their share. */
function CountryTable({ report, onClose }: { report: Report; onClose: (() => void) | null }) {
  return (
    <>
      <div className="panel-head">
        <span>
          <b>By country</b> <span className="second">{report.total.toLocaleString("en")} visits</span>
        </span>
        {onClose && (
          <button type="button" className="iconbutton" aria-label="Close the table" onClick={onClose}>
            <Icon name="close" />
          </button>
        )}
      </div>
      <div className="scroll">
        <table className="places">
          <Heads of={["Country", ">Share", ">Visits"]} />
          <tbody>
            {report.rows.map((r) => (
              <tr key={r.key}>
                <td>
                  <span className="country">
                    <Flag code={r.country_code} />
                    {r.name ?? <span className="second">no country</span>}
                  </span>
                </td>
                <td className="right">{(100 * r.share).toFixed(1)} %</td>
                <td className="right">
                  <Link className="numlink" to={`/visits?${new URLSearchParams(r.filter)}`}>
                    {r.visits.toLocaleString("en")}
                  </Link>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <p className="small second map-rest">
        <LeftOut of={report.left_out} />
      </p>
    </>
  );
}

interface TableProps {
  groups: Group[];
  selected: string;
  onSelect: (key: string) => void;
  onMap: number;
  all: number;
  noPoint: { skipped: number; unknown: number };
  leftOut: Record<string, number>;
  onClose: (() => void) | null;
}

/** PlaceTable lists the circles in view by count, and what no map can show. */
function PlaceTable(props: TableProps) {
  const shown = props.groups.reduce((n, g) => n + g.visits, 0);
  const { skipped, unknown } = props.noPoint;
  const outside = props.onMap - shown;
  return (
    <>
      <div className="panel-head">
        <span>
          <b>In this view</b>{" "}
          <span className="second">
            {shown.toLocaleString("en")} of {props.all.toLocaleString("en")} visits
          </span>
        </span>
        {props.onClose && (
          <button type="button" className="iconbutton" aria-label="Close the table" onClick={props.onClose}>
            <Icon name="close" />
          </button>
        )}
      </div>
      <div className="scroll">
        <table className="places">
          <Heads of={["Location", "Level", ">Radius", ">Visits"]} />
          <tbody>
            {props.groups.map((g) => (
              <PlaceRow
                key={g.key}
                group={g}
                chosen={g.places.some((p) => placeKey(p) === props.selected)}
                onSelect={props.onSelect}
              />
            ))}
          </tbody>
        </table>
      </div>
      <p className="small second map-rest">
        <Link className="numlink" to="/visits?level=none">
          {skipped + unknown} visits
        </Link>{" "}
        have no point: {skipped} skipped, {unknown} unknown to the atlas.
        {outside > 0 && (
          <>
            <br />
            {outside} lie outside this view.
          </>
        )}{" "}
        <LeftOut of={props.leftOut} />
      </p>
    </>
  );
}

function PlaceRow({
  group,
  chosen,
  onSelect,
}: {
  group: Group;
  chosen: boolean;
  onSelect: (key: string) => void;
}) {
  const first = group.places[0];
  if (!first) return null;
  const several = group.places.length > 1;
  const largest = Math.max(...group.places.map((p) => p.radius_km));
  const query = several
    ? `country_code=${first.country_code}`
    : first.city
      ? `country_code=${first.country_code}&city=${encodeURIComponent(first.city)}`
      : `country_code=${first.country_code}&level=${first.level}`;
  return (
    <tr
      className={chosen ? "chosen" : ""}
      tabIndex={0}
      onClick={() => onSelect(group.key)}
      onKeyDown={(e) => e.key === "Enter" && e.target === e.currentTarget && onSelect(group.key)}
    >
      <td>
        <span className="country">
          <Flag code={first.country_code} />
          <span className="cut" title={groupName(group)}>
            {groupName(group)}
          </span>
        </span>
      </td>
      <td>{several ? <span className="second">cluster</span> : <LevelMark level={first.level} />}</td>
      <td className="right nowrap">{several ? `to ${km(largest)}` : km(first.radius_km)}</td>
      <td className="right">
        {several ? (
          group.visits
        ) : (
          <Link className="numlink" to={`/visits?${query}`}>
            {group.visits}
          </Link>
        )}
      </td>
    </tr>
  );
}

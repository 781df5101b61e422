import { counted } from "../../components/format";
import "./map.css";
import { Button, Segmented } from "antd";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { useRoute } from "../../components/addressParam";
import { usePlaces, useReport } from "../../api/queries";
import { phone as phoneWidth, useNarrow } from "../../components/useNarrow";
import { useSite } from "../../components/site";
import { Bars, Empty, Failed } from "../../components/states";
import { type Group } from "../../features/map/cluster";
import { WorldMap, type WorldHandle } from "../../features/map/WorldMap";
import { FilterChips } from "../visits/FilterChips";
import { toQuery } from "../visits/filters";
import { barEnd, spanTimes, TimeBar, type Span } from "./TimeBar";
import { groupName, CountryTable, PlaceTable } from "./MapTables";
import { type Kind, ZoomButtons, Legend } from "./MapLegend";

type Twin = "Map" | "Table";
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
  const table =
    kind === "Share by country"
      ? countries.data && (
          <CountryTable
            report={countries.data}
            filter={filter}
            onClose={phone ? null : () => setDrawer(false)}
          />
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
            text={`${counted(report.data.count.all, "visit")} in all.`}
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
      <ZoomButtons world={world} />
      <Legend kind={kind} pixelsPerKm={view.pixelsPerKm} />
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

import { Link } from "react-router";
import type { Place, Report } from "../../api/client";
import type { VisitFilter } from "../../api/queries";
import { counted, km } from "../../components/format";
import { Icon } from "../../components/icons";
import { percent } from "../atlas/words";
import { LeftOut } from "../../features/card/LeftOut";
import { Heads } from "../../components/Heads";
import { Flag, LevelMark } from "../../components/parts";
import { placeKey, type Group } from "../../features/map/cluster";

export const nameOf = (p: Place): string => p.names.city ?? p.names.region ?? p.names.country;

export const groupName = (g: Group) => {
  const first = g.places[0];
  if (!first) return "";
  return g.places.length > 1 ? `Around ${nameOf(first)}` : nameOf(first);
};

type NoPoint = Report["no_point"];

/** WithoutPlace says which visits have no country, and why. */
function WithoutPlace({ of: { skipped, not_found, unknown } }: { of: NoPoint }) {
  if (skipped + not_found + unknown === 0) return null;
  return (
    <>
      No country: <Link to="/visits?skipped=true">{skipped} skipped</Link>, {not_found} not found, {unknown}{" "}
      unknown to the atlas.{" "}
    </>
  );
}

/** ByRegistration says how many visits have no better ground for their country than where a range is registered. */
function ByRegistration({ report, filter }: { report: Report; filter: VisitFilter }) {
  if (!report.by_registration) return null;
  return (
    <>
      <Link
        to={`/visits?${new URLSearchParams(Object.entries({ ...filter, basis: "registration" }).map(([key, value]) => [key, String(value)]))}`}
      >
        {percent(report.by_registration / report.total)} by registration only
      </Link>
      : where a range is registered need not be where it is.{" "}
    </>
  );
}

/** CountryTable lists the visits of each country and their share. */
export function CountryTable({
  report,
  filter,
  onClose,
}: {
  report: Report;
  filter: VisitFilter;
  onClose: (() => void) | null;
}) {
  return (
    <>
      <div className="panel-head">
        <span>
          <b>By country</b> <span className="second">{counted(report.total, "visit")}</span>
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
        <WithoutPlace of={report.no_point} />
        <ByRegistration report={report} filter={filter} />
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
  noPoint: NoPoint;
  leftOut: Record<string, number>;
  onClose: (() => void) | null;
}

/** PlaceTable lists the circles in view by count, and what no map can show. */
export function PlaceTable(props: TableProps) {
  const shown = props.groups.reduce((n, g) => n + g.visits, 0);
  const { skipped, not_found, unknown } = props.noPoint;
  const outside = props.onMap - shown;
  return (
    <>
      <div className="panel-head">
        <span>
          <b>In this view</b>{" "}
          <span className="second">
            {shown.toLocaleString("en")} of {counted(props.all, "visit")}
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
          {counted(skipped + not_found + unknown, "visit")}
        </Link>{" "}
        have no point: {skipped} skipped, {not_found} not found, {unknown} unknown to the atlas.
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

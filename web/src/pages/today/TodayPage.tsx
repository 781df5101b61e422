import "./today.css";
import { Segmented } from "antd";
import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link } from "react-router";
import { useLiveVisits } from "../../api/liveVisits";
import type { Place } from "../../api/client";
import { useGate } from "../../api/gate";
import {
  useAtlas,
  useChanges,
  useCheckup,
  useEditions,
  usePlaces,
  useReport,
  useTimeline,
  useVisitsState,
} from "../../api/queries";
import { counted, km } from "../../components/format";
import { Heads } from "../../components/Heads";
import { Country, LevelMark, Prose } from "../../components/parts";
import { useSite } from "../../components/site";
import { LeftOut } from "../../features/card/LeftOut";
import { Bars, Empty, Failed } from "../../components/states";
import { LiveVisits } from "./LiveVisits";
import { cityOf, dayOf, shifts, unusual, type Day } from "./day";
import { HoursChart } from "./HoursChart";
import { LastHourMap, visitsOf } from "./LastHourMap";

/** again is how often the page asks anew while visits come in, in milliseconds. */
const again = 5000;

/** TodayPage says at a glance who came today, from where, and what needs attention. */
export function TodayPage() {
  const { site } = useSite();
  const zone = site?.time_zone ?? "UTC";
  const host = site?.host ?? "";
  const at = useMinute();
  const day = dayOf(zone, at);
  const live = useLiveVisits(host);
  useMoving(live.visits[0]?.id);
  const today = useTimeline({ site: host, unit: "hour", from: day.start.toISOString() });
  const before = useTimeline({
    site: host,
    unit: "hour",
    from: day.before.toISOString(),
    to: day.before.add(1, "day").toISOString(),
  });
  const countries = useReport("countries", { site: host, from: day.start.toISOString() });
  const then = useReport("countries", {
    site: host,
    from: day.before.toISOString(),
    to: day.now.subtract(7, "day").toISOString(),
  });
  const hour = usePlaces(host, { from: day.now.subtract(1, "hour").toISOString() });
  const warnings = useWarnings(at, host);

  const failed = [today, countries, hour].find((q) => q.isError);
  if (failed)
    return (
      <div className="panel">
        <Failed what="Today could not be loaded." error={failed.error} retry={() => void failed.refetch()} />
      </div>
    );
  const moved = shifts(countries.data?.rows ?? [], then.data?.rows ?? [], 6);
  const found = countries.data?.rows.filter((r) => r.country_code).length;
  const busy = unusual(moved);
  return (
    <div className="today">
      <div className="lead serif">
        {today.data && countries.data && hour.data ? (
          <>
            <Link className="numlink" to="/visits?since=today">
              {counted(today.data.total, "visit")}
            </Link>{" "}
            from{" "}
            <a className="numlink" href="#changed">
              {found} {found === 1 ? "country" : "countries"}
            </a>{" "}
            since midnight in {cityOf(zone)},{" "}
            <Link className="numlink" to="/visits?since=hour">
              {hour.data.total.toLocaleString("en")}
            </Link>{" "}
            {day.now.diff(day.start, "minute") < 60 ? "in" : "of them in"} the last hour.
            {busy && ` ${busy.name} is busier than usual.`}{" "}
            <LeftOut of={today.data.left_out} query="&since=today" />{" "}
            {warnings.length > 0 && (
              <a className="chip attention" href="#attention">
                {warnings.length === 1 ? "One thing needs" : `${count(warnings.length)} things need`}{" "}
                attention.
              </a>
            )}
          </>
        ) : (
          <Bars rows={1} label="Today is loading" />
        )}
      </div>
      <LastHour
        places={hour.data?.rows ?? []}
        total={hour.data?.total ?? 0}
        pending={hour.isPending}
        at={day.now.toDate()}
        hours={
          today.data && before.data ? (
            <HoursChart
              today={today.data.rows}
              before={before.data.rows}
              now={day.now.diff(day.start, "minute") / 60}
              nowText={day.now.format("HH:mm")}
              weekday={day.start.format("dddd")}
            />
          ) : null
        }
      />
      <div className="today-side">
        {warnings.length > 0 && (
          <section className="needs-attention" id="attention" aria-label="Needs attention">
            <h2>
              <span className="attention-dot" aria-hidden="true" /> Needs attention
            </h2>
            {warnings.map((e) => (
              <div key={e.what} className="attention-row">
                <b>
                  <Prose text={e.what} />
                </b>{" "}
                <Prose text={e.more} />
                <br />
                <Link to={e.to}>{e.action} ›</Link>
              </div>
            ))}
          </section>
        )}
        <LiveVisits site={host} live={live} />
      </div>
      <Changed day={day} moved={then.data && moved} total={today.data?.total} />
    </div>
  );
}

const words = ["No", "One", "Two", "Three", "Four", "Five", "Six"];
const count = (n: number) => words[n] ?? String(n);

/** useMinute is the time, anew every half minute. */
function useMinute(): Date {
  const [at, setAt] = useState(() => new Date());
  useEffect(() => {
    const timer = setInterval(() => setAt(new Date()), 30_000);
    return () => clearInterval(timer);
  }, []);
  return at;
}

/** useMoving asks anew a while after visits have come in. */
function useMoving(newest: string | undefined) {
  const queries = useQueryClient();
  useEffect(() => {
    if (!newest) return;
    const timer = setTimeout(() => {
      for (const key of ["timeline", "report", "places"]) void queries.invalidateQueries({ queryKey: [key] });
    }, again);
    return () => clearTimeout(timer);
  }, [newest, queries]);
}

interface Warning {
  what: string;
  more: string;
  action: string;
  to: string;
}

/** useWarnings gathers what a person should look at. */
function useWarnings(at: Date, site: string): Warning[] {
  const gate = useGate(site).data;
  const checkup = useCheckup().data;
  const state = useVisitsState().data;
  const editions = useEditions().data?.editions;
  const atlas = useAtlas().data;
  const warnings: Warning[] = [];
  if (checkup?.state === "attention")
    warnings.push({ what: checkup.title, more: "", action: "Open Set-up", to: "/setup" });
  for (const alarm of gate?.alarms ?? [])
    warnings.push({ what: alarm.text, more: "", action: "Open Gate", to: "/gate" });
  if (state?.intake.away)
    warnings.push({
      what: "The database does not answer.",
      more: `Visits are still accepted and wait in the queue: ${state.intake.waiting.toLocaleString("en")} so far.`,
      action: "Open Set-up",
      to: "/setup",
    });
  if (state && state.quarantine > 0)
    warnings.push({
      what: `Could not be stored: ${counted(state.quarantine, "visit")}.`,
      more: "They are in quarantine, with the reason: eastporch visits quarantine list.",
      action: "Open Set-up",
      to: "/setup",
    });
  const ready = editions?.find((e) => e.state === "ready");
  if (ready)
    warnings.push({
      what: `Edition ${ready.name} waits.`,
      more: "Compare it with the one in use, or activate it.",
      action: "Open Atlas",
      to: "/atlas",
    });
  const old = atlas?.sources.find((s) => s.dated && at.getTime() - Date.parse(s.dated) > staleAfter);
  if (old)
    warnings.push({
      what: `${old.name} is ${Math.floor((at.getTime() - Date.parse(old.dated ?? "")) / 86_400_000)} days old.`,
      more: "Networks move; a newer file may tell another place.",
      action: "Open Atlas",
      to: "/atlas",
    });
  return warnings;
}

const staleAfter = 90 * 86_400_000;

interface HourProps {
  places: Place[];
  total: number;
  pending: boolean;
  at: Date;
  hours: React.ReactNode;
}

/** LastHour is the map of the last hour, or its table, and below it the hours of the day. */
function LastHour({ places, total, pending, at, hours }: HourProps) {
  const [twin, setTwin] = useState<"Map" | "Table">("Map");
  const onMap = places.reduce((n, p) => n + p.visits, 0);
  return (
    <section className="panel lasthour-panel" aria-label="The last hour">
      <div className="panel-head">
        <b>The last hour</b>
        <span className="small second">
          {onMap.toLocaleString("en")} on the map
          {total > onMap && (
            <>
              ,{" "}
              <Link className="numlink" to="/visits?since=hour&level=none">
                {total - onMap} without a point
              </Link>
            </>
          )}
        </span>
        <Segmented<"Map" | "Table"> options={["Map", "Table"]} value={twin} onChange={setTwin} />
      </div>
      {pending ? (
        <Bars rows={6} label="The last hour is loading" />
      ) : places.length === 0 ? (
        <div className="lasthour">
          <Empty title="No visits in the last hour." text="The map fills as visits come in.">
            <Link to="/map">See all visits on the map</Link>
          </Empty>
        </div>
      ) : twin === "Map" ? (
        <LastHourMap places={places} at={at} />
      ) : (
        <div className="lasthour scroll" tabIndex={0} role="region" aria-label="Places of the last hour">
          <table className="places">
            <Heads of={["Location", "Level", ">Radius", ">Visits"]} />
            <tbody>
              {places.map((p) => (
                <tr key={`${p.level}${p.country_code}${p.region_code}${p.city}`}>
                  <td>
                    <Country code={p.country_code} name={p.names.city ?? p.names.region ?? p.names.country} />
                  </td>
                  <td>
                    <LevelMark level={p.level} />
                  </td>
                  <td className="right nowrap">{km(p.radius_km)}</td>
                  <td className="right">
                    <Link className="numlink" to={visitsOf(p)}>
                      {p.visits}
                    </Link>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      <div className="today-legend small">
        <span>
          <svg viewBox="0 0 30 14" className="map key wide-key" aria-hidden="true">
            <circle className="ring dot" cx="6" cy="7" r="4" />
            <circle className="ring dot" cx="21" cy="7" r="6.2" />
          </svg>
          more visits, larger circle
        </span>
        <span>
          <svg viewBox="0 0 14 14" className="map key" aria-hidden="true">
            <circle className="ring wide" cx="7" cy="7" r="6" />
          </svg>
          country level only
        </span>
        <span>
          <i className="night-key" aria-hidden="true" />
          night now
        </span>
      </div>
      {hours}
    </section>
  );
}

/** Changed says in plain columns what is other than before. */
function Changed({
  day,
  moved,
  total,
}: {
  day: Day;
  /** moved is undefined where it is not known. */
  moved: ReturnType<typeof shifts> | undefined;
  total: number | undefined;
}) {
  const atlas = useAtlas().data;
  const state = useVisitsState().data;
  const editions = useEditions().data?.editions;
  const ready = editions?.find((e) => e.state === "ready");
  const changes = useChanges(ready?.name ?? "", atlas?.name ?? "").data;
  return (
    <section className="changed" id="changed" aria-label="What changed">
      <b className="changed-title">What changed</b>
      <div>
        <b>Edition {ready?.name ?? atlas?.name ?? "not known"}</b>
        <p>
          {ready && changes ? (
            <>
              Would move{" "}
              <Link className="numlink" to="/atlas">
                {counted(changes.ranges, "range")}
              </Link>
              . It waits until you activate it.
            </>
          ) : ready ? (
            "It waits until you activate it."
          ) : editions ? (
            "In use; none waits."
          ) : (
            notKnown
          )}
        </p>
      </div>
      <div>
        <b>Against last {day.start.format("dddd")}</b>
        <p className="moved">
          {!moved && notKnown}
          {moved?.length === 0 && (total === 0 ? "No visits yet today." : "No differences.")}
          {moved?.map((s) => (
            <span key={s.code}>
              {s.name}{" "}
              <Link className="numlink" to={`/visits?since=today&country_code=${s.code}`}>
                {s.now}
              </Link>{" "}
              from {s.then}
            </span>
          ))}
        </p>
      </div>
      <div>
        <b>Kept</b>
        <p>
          {state?.kept.since &&
            `Visits since ${new Date(state.kept.since).toLocaleDateString("en", dateStyle)}. `}
          {!state
            ? notKnown
            : state.kept.next_drop
              ? `The oldest week is deleted on ${new Date(state.kept.next_drop).toLocaleDateString("en", dateStyle)}.`
              : "Visits are kept without limit."}
        </p>
      </div>
    </section>
  );
}

const notKnown = "Not known yet.";
const dateStyle = { day: "numeric", month: "long", year: "numeric", timeZone: "UTC" } as const;

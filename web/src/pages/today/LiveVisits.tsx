import { Button } from "antd";
import dayjs from "dayjs";
import { useState } from "react";
import { Link } from "react-router";
import type { LiveVisits as Live } from "../../api/liveVisits";
import type { Visit } from "../../api/client";
import { useVisits } from "../../api/queries";
import { clockTime } from "../../components/format";
import { Flag, Steps } from "../../components/parts";
import { Bars } from "../../components/states";
import { AddressOf, placeLine, within } from "../visits/VisitTable";

const shown = 6;

/** LiveVisits is the newest visits, which come in by themselves until they are paused. */
export function LiveVisits({ site, live }: { site: string; live: Live }) {
  const [held, setHeld] = useState<Visit[] | null>(null);
  const list = useVisits(site, noFilter);
  const before = list.data?.pages[0]?.visits ?? [];
  const fresh = new Set(live.visits.map((v) => v.id));
  const now = [...live.visits, ...before.filter((v) => !fresh.has(v.id))].slice(0, shown);
  const visits = held ?? now;
  const waits = held && now[0] && now[0].id !== held[0]?.id;
  return (
    <section className="panel live-visits" aria-label="Live visits">
      <div className="panel-head">
        <span>
          <b>Live visits</b> {!live.waitingSince && !held && <span className="live" aria-hidden="true" />}
          {live.waitingSince && (
            <span className="small second">
              {" "}
              Waiting for the service, since {dayjs(live.waitingSince).format("HH:mm")}
            </span>
          )}
        </span>
        <Button
          type="text"
          size="small"
          onClick={() => setHeld(held ? null : now)}
          aria-pressed={held !== null}
        >
          {held ? (waits ? "Resume: there are new visits" : "Resume") : "Pause"}
        </Button>
      </div>
      {list.isPending ? (
        <Bars rows={shown} label="Visits are loading" />
      ) : visits.length === 0 ? (
        <p className="second none">{list.isError ? "The visits could not be loaded." : "No visits yet."}</p>
      ) : (
        <ul>
          {visits.map((v) => (
            <Row key={v.id} visit={v} fresh={fresh.has(v.id)} />
          ))}
        </ul>
      )}
    </section>
  );
}

const noFilter = {};

function Row({ visit, fresh }: { visit: Visit; fresh: boolean }) {
  const { card } = visit;
  const w = card.location;
  const aside = card.address.skipped;
  const line = placeLine(visit);
  return (
    <li className={`${aside ? "aside" : ""} ${fresh ? "fresh" : ""}`}>
      <span className="row">
        <AddressOf visit={visit} short />
        <Link className="small second when" to={`/visits?visit=${visit.id}`} aria-label="Open this visit">
          <time dateTime={visit.time}>{clockTime(visit.time)}</time>
        </Link>
      </span>
      <span className="row">
        <span className="country">
          <Flag code={aside ? null : w.country_code} />
          <span className={w.level === "none" ? "second cut" : "cut"}>{line.head}</span>
        </span>
        {aside ? (
          <span className="small second">{card.address.kind}</span>
        ) : (
          <span className="level second">
            <Steps level={w.level} />
            <span className="km">{w.radius_km === null ? "–" : within(visit)}</span>
          </span>
        )}
      </span>
    </li>
  );
}

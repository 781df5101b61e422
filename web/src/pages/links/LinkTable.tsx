import { counted } from "../../components/format";
import dayjs from "dayjs";
import { Link } from "react-router";
import type { LinkRow } from "../../api/links";
import { Icon } from "../../components/icons";
import { AttentionChip, Flag, LabelChip, Prose } from "../../components/parts";
import { leadsTo, stand, visitsOf } from "./words";

/** LinkTable has a row of two lines for each link. */
export function LinkTable(props: { rows: LinkRow[]; open: string; onOpen: (code: string) => void }) {
  const now = dayjs();
  return (
    <table className="links-table">
      <thead>
        <tr>
          <th scope="col">Link</th>
          <th scope="col">Leads to</th>
          <th scope="col">Clicks, 7 days</th>
          <th scope="col">Last click</th>
          <th scope="col">State</th>
        </tr>
      </thead>
      <tbody>
        {props.rows.map((r) => (
          <tr
            key={r.link.code}
            className={[
              r.link.code === props.open ? "chosen" : "",
              r.link.state === "active" ? "" : "ended",
            ].join(" ")}
            onClick={() => props.onOpen(r.link.code)}
          >
            <th scope="row">
              <button
                type="button"
                className="links-open"
                aria-pressed={r.link.code === props.open}
                onClick={(e) => {
                  e.stopPropagation();
                  props.onOpen(r.link.code);
                }}
              >
                <code className="addr subject">{r.link.code}</code>
              </button>
              <span className="small second cut">
                <Prose text={r.link.name || r.link.note} />
              </span>
            </th>
            <td className="links-leads">
              <code className="addr cut">
                <Prose text={r.link.destination} />
              </code>
              <span className="small second">{leadsTo(r.link)}</span>
            </td>
            <td>
              <span className="links-clicks">
                <Bars days={r.days} />
                <Link
                  className="numlink"
                  to={visitsOf(r.link.code, { since: "week" })}
                  aria-label={`${counted(r.clicks, "click")} on ${r.link.code}`}
                  onClick={(e) => e.stopPropagation()}
                >
                  {r.clicks.toLocaleString("en")}
                </Link>
              </span>
            </td>
            <td>
              <Last row={r} now={now} />
            </td>
            <td>
              <State row={r} now={now} />
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** barsHigh is how high the highest bar is, in pixels. */
const barsHigh = 24;

/** Bars draw the clicks of seven days, of which the last is not over. */
function Bars({ days }: { days: number[] }) {
  const most = Math.max(1, ...days);
  return (
    <svg
      className="links-bars"
      width={55}
      height={barsHigh + 2}
      role="img"
      aria-label={`By day: ${days.join(", ")}`}
    >
      {days.map((n, i) => {
        const high = n === 0 ? 1 : Math.max(2, Math.round((n / most) * barsHigh));
        const today = i === days.length - 1;
        return (
          <rect
            key={i}
            className={n === 0 ? "none" : today ? "today" : ""}
            x={i * 8 + (today ? 0.5 : 0)}
            y={barsHigh + 1 - high + (today ? 0.5 : 0)}
            width={today ? 5 : 6}
            height={today ? Math.max(1, high - 1) : high}
          />
        );
      })}
    </svg>
  );
}

function Last({ row, now }: { row: LinkRow; now: dayjs.Dayjs }) {
  if (row.last === null) return <span className="second">none yet</span>;
  const { placeholder, name, place, time } = row.last;
  const at = dayjs(time);
  return (
    <>
      {placeholder !== null ? (
        <LabelChip label={placeholder} />
      ) : (
        <span className="country cut">
          <Flag code={place.country_code} />
          {name ?? (place.level === "not found" ? "not found" : place.level)}
        </span>
      )}
      <span className="small second links-time">
        {at.isSame(now, "day") ? at.format("HH:mm") : at.format("D MMM HH:mm")}
      </span>
    </>
  );
}

function State({ row, now }: { row: LinkRow; now: dayjs.Dayjs }) {
  const s = stand(row.link, now);
  return (
    <>
      {s.kind === "ok" && (
        <span className="links-ok">
          <Icon name="check" /> {s.word}
        </span>
      )}
      {s.kind === "attention" && <AttentionChip>{s.word}</AttentionChip>}
      {s.kind === "off" && <span className="chip kind">{s.word}</span>}
      {s.kind === "ended" && <span>{s.word}</span>}
      {s.more && <span className="small second">{s.more}</span>}
    </>
  );
}

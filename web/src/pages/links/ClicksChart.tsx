import dayjs from "dayjs";
import utc from "dayjs/plugin/utc";
import type { ReactNode } from "react";
import { Link } from "react-router";
import type { LinkReport } from "../../api/links";
import { visitsOf } from "./words";

dayjs.extend(utc);

const high = 62;
const top = 14;

/** ClicksChart draws clicks and visitors by day, or the clicks of two links. */
export function ClicksChart({ report, span }: { report: LinkReport; span: ReactNode }) {
  const { of, compared } = report;
  const second = of.days.map((d, i) => (compared ? (compared.days[i]?.clicks ?? 0) : (d.visitors ?? 0)));
  const most = Math.max(1, ...of.days.map((d) => d.clicks), ...second);
  const wide = 350;
  const each = wide / Math.max(1, of.days.length);
  const bar = Math.max(1, Math.min(16, each * 0.34));
  const few = of.days.length <= 7;
  const y = (n: number) => top + high - (n / most) * high;
  const rest = compared ? compared.clicks : of.visitors;
  return (
    <div className="link-part">
      <div className="link-part-head">
        {span}
        <span className="link-legend small">
          <i className="clicks" />{" "}
          <Link className="numlink" to={visitsOf(of.link.code, of.days.length <= 7 ? { since: "week" } : {})}>
            {of.clicks.toLocaleString("en")}
          </Link>{" "}
          {compared ? of.link.code : "clicks"} <i className="visitors" /> <b>{rest.toLocaleString("en")}</b>{" "}
          {compared ? compared.link.code : "visitors"}
        </span>
      </div>
      <svg
        className="link-chart"
        viewBox={`0 0 ${wide} ${top + high + 18}`}
        role="img"
        aria-label={`By day in UTC: ${of.days
          .map((d, i) => `${dayjs.utc(d.from).format("D MMM")} ${d.clicks} and ${second[i]}`)
          .join(", ")}`}
      >
        <path className="base" d={`M0 ${top + high + 0.5}h${wide}`} />
        {of.days.map((d, i) => {
          const middle = i * each + each / 2;
          const last = i === of.days.length - 1;
          return (
            <g key={d.from} className={last ? "today" : ""}>
              <rect
                className="clicks"
                x={middle - bar - 0.5}
                y={y(d.clicks)}
                width={bar}
                height={top + high - y(d.clicks)}
              />
              <rect
                className="visitors"
                x={middle + 0.5}
                y={y(second[i] ?? 0)}
                width={bar}
                height={top + high - y(second[i] ?? 0)}
              />
              {few && (
                <text x={middle} y={Math.min(y(d.clicks), y(second[i] ?? 0)) - 4} textAnchor="middle">
                  {d.clicks.toLocaleString("en")}
                </text>
              )}
              {(few || i % Math.ceil(of.days.length / 6) === 0) && (
                <text className="day" x={middle} y={top + high + 14} textAnchor={few ? "middle" : "start"}>
                  {dayjs.utc(d.from).format(few ? "ddd" : "D MMM")}
                </text>
              )}
            </g>
          );
        })}
      </svg>
    </div>
  );
}

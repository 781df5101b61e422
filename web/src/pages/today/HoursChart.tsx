import { useSize } from "../../features/map/useSize";

interface Hour {
  from: string;
  visits: number;
}

interface Props {
  today: Hour[];
  before: Hour[];
  /** now is how far the day has come, 0 to 24 hours. */
  now: number;
  nowText: string;
  weekday: string;
}

const height = 104;
const top = 20;
const base = 84;

/** HoursChart draws the hours of today as bars, the one that runs outlined, and the same weekday before as a step line. */
export function HoursChart({ today, before, now, nowText, weekday }: Props) {
  const { ref, width } = useSize<HTMLDivElement>();
  const hours = Math.max(24, before.length);
  const most = Math.max(1, ...today.map((h) => h.visits), ...before.map((h) => h.visits));
  const x = (hour: number) => (hour / hours) * width;
  const y = (visits: number) => base - (visits / most) * (base - top);
  const running = Math.floor(now);
  const peak = Math.max(0, ...before.map((h) => h.visits));
  let line = "";
  before.forEach(
    (h, i) => (line += `${i === 0 ? "M" : "V"}${i === 0 ? `0 ${y(h.visits)}` : y(h.visits)}H${x(i + 1)}`),
  );
  const soFar = today[running]?.visits ?? 0;
  const sum = today.reduce((n, h) => n + h.visits, 0);
  return (
    <div className="hours">
      <div ref={ref}>
        {width > 0 && (
          <svg
            className="chart"
            width={width}
            height={height}
            role="img"
            aria-label={`Visits by hour: ${sum} so far today, ${soFar} of them in this hour; last ${weekday} had ${peak} in its busiest hour`}
          >
            <path className="axis" d={`M0 ${base}.5H${width}`} />
            {today.slice(0, running + 1).map((h, i) => (
              <rect
                key={h.from}
                className={i === running ? "bar running" : "bar"}
                x={x(i) + 3}
                width={Math.max(2, x(1) - 6)}
                y={y(h.visits)}
                height={Math.max(0, base - y(h.visits))}
                rx="2"
              />
            ))}
            <path className="stepline" d={line} />
            <path className="nowline" d={`M${x(now)} ${top - 8}V${base}`} />
            <text
              className="strong"
              x={x(now) + (now > hours * 0.7 ? -6 : 6)}
              y={top - 4}
              textAnchor={now > hours * 0.7 ? "end" : "start"}
            >
              {soFar} so far at {nowText}
            </text>
            {peak > 0 && (
              <text
                x={now > hours / 2 ? 0 : width}
                y={top - 4}
                textAnchor={now > hours / 2 ? "start" : "end"}
              >
                line: last {weekday}, {peak} at its height
              </text>
            )}
            {[0, 6, 12, 18, 24].map((h) => (
              <text
                key={h}
                x={x(h)}
                y={height - 4}
                textAnchor={h === 0 ? "start" : h === 24 ? "end" : "middle"}
              >
                {String(h).padStart(2, "0")}:00
              </text>
            ))}
          </svg>
        )}
      </div>
    </div>
  );
}

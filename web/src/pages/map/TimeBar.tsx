import { Slider } from "antd";
import { useEffect, useState } from "react";
import type dayjs from "dayjs";
import { useTimeline, type VisitFilter } from "../../api/queries";
import { Icon } from "../../components/icons";
import { useSize } from "../../features/map/useSize";
import { dayOf, cityOf } from "../today/day";

/** hoursBack is how far the bar reaches. */
const hoursBack = 24;
const step = 15; // minutes
const steps = (hoursBack * 60) / step;
/** pace is how long a step of the replay is shown, in milliseconds. */
const pace = 500;

/** Span is a part of the bar, in steps; null stands for all time. */
export type Span = [number, number] | null;

/** spanTimes gives the times of a span, where the bar ends now. */
export function spanTimes(span: Span, end: dayjs.Dayjs): Pick<VisitFilter, "from" | "to"> {
  if (!span) return {};
  const at = (n: number) => end.subtract((steps - n) * step, "minute").toISOString();
  return span[1] === steps ? { from: at(span[0]) } : { from: at(span[0]), to: at(span[1]) };
}

/** barEnd is the quarter hour that the bar ends with. */
export function barEnd(zone: string, at: Date): dayjs.Dayjs {
  const { now } = dayOf(zone, at);
  return now.minute(Math.floor(now.minute() / step) * step).add(step, "minute");
}

interface Props {
  site: string;
  zone: string;
  filter: VisitFilter;
  end: dayjs.Dayjs;
  span: Span;
  onSpan: (span: Span) => void;
}

/** TimeBar shows the last day by quarter hours; a part of it can be chosen, and played. */
export function TimeBar({ site, zone, filter, end, span, onSpan }: Props) {
  const [playing, setPlaying] = useState(false);
  const start = end.subtract(hoursBack, "hour");
  const line = useTimeline({
    ...filter,
    site,
    unit: "quarter",
    from: start.toISOString(),
  }).data;
  const { ref, width } = useSize<HTMLDivElement>();
  const chosen: [number, number] = span ?? [0, steps];
  useEffect(() => {
    if (!playing) return;
    const wide = span ? span[1] - span[0] : 8;
    const first = span && span[1] < steps ? span[0] : 0;
    const timer = setTimeout(() => {
      if (first + wide >= steps) setPlaying(false);
      else onSpan([first + 1, first + 1 + wide]);
    }, pace);
    return () => clearTimeout(timer);
  }, [playing, span, onSpan]);
  const rows = line?.rows ?? [];
  const most = Math.max(1, ...rows.map((r) => r.visits));
  const text = (n: number) => start.add(n * step, "minute").format("HH:mm");
  const play = () => {
    if (!playing) onSpan(span && span[1] < steps ? span : [0, span ? Math.max(2, span[1] - span[0]) : 8]);
    setPlaying(!playing);
  };
  return (
    <section className="timebar" aria-label="Time">
      <button
        type="button"
        className="playbutton"
        aria-label={playing ? "Pause the replay" : "Replay the last day"}
        onClick={play}
      >
        <Icon name={playing ? "pause" : "play"} />
      </button>
      <div className="timebar-words">
        <b className="serif">{span ? `${text(span[0])} – ${text(span[1])}` : "All visits"}</b>
        <span className="small second">
          {span ? (
            <button
              type="button"
              className="textlink"
              onClick={() => {
                setPlaying(false);
                onSpan(null);
              }}
            >
              Show all
            </button>
          ) : (
            "choose a part of the last day"
          )}
          {span && `, in ${cityOf(zone)}`}
        </span>
      </div>
      <div className="timebar-chart" ref={ref}>
        {width > 0 && (
          <svg width={width} height={46} aria-hidden="true" className="chart">
            {rows.slice(0, steps).map((r, i) => {
              const h = (r.visits / most) * 40;
              return (
                <rect
                  key={r.from}
                  className={i >= chosen[0] && i < chosen[1] ? "bar" : "bar out"}
                  x={(i / steps) * width + 0.5}
                  width={Math.max(1, width / steps - 1)}
                  y={46 - h}
                  height={h}
                />
              );
            })}
          </svg>
        )}
        <Slider
          range
          min={0}
          max={steps}
          value={chosen}
          tooltip={{ formatter: (n) => text(n ?? 0) }}
          ariaLabelForHandle={["Beginning", "End"]}
          ariaValueTextFormatterForHandle={[text, text]}
          onChange={(value: number[]) => {
            const [a = 0, b = steps] = value;
            setPlaying(false);
            onSpan(a === 0 && b === steps ? null : [a, Math.max(b, a + 1)]);
          }}
        />
        <div className="timebar-ticks small second" aria-hidden="true">
          {[0, 6, 12, 18, 24].map((h) => (
            <span key={h}>{start.add(h, "hour").format("HH:mm")}</span>
          ))}
        </div>
      </div>
    </section>
  );
}

import { Heads } from "../../components/Heads";
import { Refusal, type Accuracy } from "../../api/client";
import { useAccuracy } from "../../api/queries";
import { km } from "../../components/format";
import { Bars, Failed } from "../../components/states";
import { useSize } from "../../features/map/useSize";
import { percent } from "./words";

/** AccuracyPanel holds the edition in use, and the one that waits, against test points. */
export function AccuracyPanel({ now, ready }: { now: string; ready: string }) {
  const inUse = useAccuracy(now);
  const waiting = useAccuracy(ready);
  const none = inUse.error instanceof Refusal && inUse.error.problem.status === 404;
  return (
    <section className="panel accuracy" aria-labelledby="accuracy-title">
      <div className="panel-head">
        <h2 className="panel-title" id="accuracy-title">
          Accuracy
        </h2>
        {inUse.data && (
          <span className="small second">{inUse.data.all.points.toLocaleString("en")} test points</span>
        )}
      </div>
      {none ? (
        <p className="second accuracy-none">
          Nobody has named points whose true place is known. Put a file of them under{" "}
          <code>atlas.test_points</code>, and see how far off the answers are.
        </p>
      ) : inUse.isPending ? (
        <Bars label="Accuracy is loading" rows={5} />
      ) : inUse.isError ? (
        <Failed
          what="Accuracy could not be measured."
          error={inUse.error}
          retry={() => void inUse.refetch()}
        />
      ) : (
        <>
          <Plot now={inUse.data} ready={waiting.data} />
          <table className="evidence atlas-table accuracy-table">
            <Heads of={["Edition", ">Median", ">90th percentile", ">Inside radius"]} />
            <tbody>
              {waiting.data && <Line name="ready" figures={waiting.data} solid />}
              <Line name="in use" figures={inUse.data} solid={!waiting.data} />
            </tbody>
          </table>
        </>
      )}
    </section>
  );
}

function Line({ name, figures, solid }: { name: string; figures: Accuracy; solid: boolean }) {
  const { km: far, inside_radius } = figures.all;
  const words = (n: number | null) => (n === null ? "–" : km(n));
  return (
    <tr>
      <td className="nowrap">
        <svg className="key" viewBox="0 0 24 8" aria-hidden="true">
          <path className={solid ? "curve" : "curve before"} d="M0 4h24" />
        </svg>
        {name}
      </td>
      <td className="right">{words(far.p50)}</td>
      <td className="right">{words(far.p90)}</td>
      <td className="right">{percent(inside_radius)}</td>
    </tr>
  );
}

const marks = [10, 50, 250];
const height = 196;
const edge = { left: 44, right: 12, top: 12, bottom: 22 };

/** Plot draws which share of the test points lies within which distance. */
function Plot({ now, ready }: { now: Accuracy; ready: Accuracy | undefined }) {
  const { ref, width } = useSize<HTMLDivElement>();
  const main = ready ?? now;
  const room = Math.max(50, width - edge.left - edge.right);
  const x = (distance: number) => edge.left + (room * Math.log(distance)) / Math.log(2000);
  const y = (share: number) => edge.top + (1 - share) * (height - edge.top - edge.bottom);
  const line = (a: Accuracy) =>
    a.curve.map((c, i) => `${i ? "L" : "M"}${x(c.km).toFixed(1)} ${y(c.share).toFixed(1)}`).join("");
  const at = (a: Accuracy, distance: number) => a.curve.find((c) => c.km === distance)?.share ?? 0;
  const words = `${percent(at(main, 50))} of the test points lie within 50 km of where edition ${main.edition} puts them.`;
  return (
    <div ref={ref} className="plot">
      <svg width={width} height={height} role="img" aria-label={words}>
        {[0, 0.5, 1].map((share) => (
          <g key={share}>
            <path className="gridline" d={`M${edge.left} ${y(share)}H${width - edge.right}`} />
            <text x={edge.left - 6} y={y(share) + 4} textAnchor="end">
              {share * 100} %
            </text>
          </g>
        ))}
        {marks.map((m) => (
          <path key={m} className="gridline mark" d={`M${x(m)} ${edge.top}V${height - edge.bottom}`} />
        ))}
        {[1, ...marks].map((m) => (
          <text key={m} x={x(m)} y={height - 6} textAnchor="middle">
            {m}
          </text>
        ))}
        <text x={width - edge.right} y={height - 6} textAnchor="end">
          2,000 km
        </text>
        {ready && <path className="curve before" d={line(now)} />}
        <path className="curve" d={line(main)} />
        {marks.map((m) => (
          <circle key={m} className="curve dot" cx={x(m)} cy={y(at(main, m))} r="3.5" />
        ))}
        <text className="said" x={x(50) - 8} y={y(at(main, 50)) - 9} textAnchor="end">
          {ready ? "ready" : "in use"} {percent(at(main, 50))}
        </text>
        {ready && (
          <text className="said-before" x={x(50) + 8} y={y(at(now, 50)) + 20}>
            in use {percent(at(now, 50))}
          </text>
        )}
      </svg>
    </div>
  );
}

import { counted } from "../../components/format";
import { geoNaturalEarth1, geoPath } from "d3-geo";
import { useMemo } from "react";
import { useSize } from "../../features/map/useSize";
import { useOutlines } from "../../features/map/world";
import { type Row } from "./useMany";

const levels = ["city", "region", "country", "continent", "none"] as const;

/** Summary puts the answers on a map, and counts them by level. */
export function Summary({ rows }: { rows: Row[] }) {
  const good = rows.filter((r) => r.problem === null);
  const counts = [
    ...levels.map((l) => ({ name: l as string, n: good.filter((r) => !r.aside && r.level === l).length })),
    { name: "skipped", n: good.filter((r) => r.aside).length },
  ].filter((c) => c.n > 0);
  const most = Math.max(...counts.map((c) => c.n), 1);
  return (
    <section className="panel many-summary" aria-labelledby="onmap-title">
      <h2 className="panel-title panel-head" id="onmap-title">
        On the map
      </h2>
      <Dots rows={good} />
      <table className="activate-counts many-counts">
        <tbody>
          {counts.map((c) => (
            <tr key={c.name}>
              <th scope="row">{c.name}</th>
              <td>
                <svg
                  className="sharebar wide"
                  viewBox="0 0 140 7"
                  preserveAspectRatio="none"
                  aria-hidden="true"
                >
                  <rect className="part" width={Math.max(2, (140 * c.n) / most)} height="7" />
                </svg>
              </td>
              <td className="right">
                <b>{c.n.toLocaleString("en")}</b>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function Dots({ rows }: { rows: Row[] }) {
  const { ref, width } = useSize<HTMLDivElement>();
  const outlines = useOutlines("110m");
  const height = Math.round(width * 0.51);
  const projection = useMemo(
    () =>
      geoNaturalEarth1().fitExtent(
        [
          [0, 2],
          [Math.max(100, width), Math.max(60, height - 2)],
        ],
        { type: "Sphere" },
      ),
    [width, height],
  );
  const path = geoPath(projection).digits(1);
  const places = new Map<string, { at: [number, number]; n: number; name: string }>();
  for (const r of rows) {
    if (r.latitude === null || r.longitude === null) continue;
    const key = `${r.latitude},${r.longitude}`;
    const one = places.get(key);
    if (one) one.n++;
    else {
      const at = projection([r.longitude, r.latitude]);
      if (at) places.set(key, { at, n: 1, name: r.city ?? r.region ?? r.country ?? "" });
    }
  }
  const list = [...places.values()].sort((a, b) => b.n - a.n);
  return (
    <div ref={ref} className="many-map">
      <svg
        width={width}
        height={height}
        role="img"
        aria-label={`${counted(list.length, "place")}; the table has them.`}
      >
        <path className="map-water" d={path({ type: "Sphere" }) ?? ""} />
        {outlines && <path className="map-land" d={path(outlines.land) ?? ""} />}
        {list.map((p) => (
          <circle
            key={p.at.join()}
            className="coverage-circle"
            cx={p.at[0]}
            cy={p.at[1]}
            r={2.6 + Math.min(12, 1.15 * Math.sqrt(p.n))}
          >
            <title>{`${p.name}, ${p.n.toLocaleString("en")}`}</title>
          </circle>
        ))}
      </svg>
    </div>
  );
}

import { Heads } from "../../components/Heads";
import { Segmented } from "antd";
import { geoNaturalEarth1, geoPath } from "d3-geo";
import { useMemo, useState } from "react";
import { Link } from "react-router";
import type { Coverage } from "../../api/client";
import { useCountries, useCoverage } from "../../api/queries";
import { Country } from "../../components/parts";
import { useSite } from "../../components/site";
import { Bars, Failed } from "../../components/states";
import { useSize } from "../../features/map/useSize";
import { graticule, useOutlines } from "../../features/map/world";
import { amount, percent } from "./words";

type View = "Map" | "Table";

/** CoveragePanel says what the edition locates, a bar a family and a line a country. */
export function CoveragePanel({ edition }: { edition: string }) {
  const coverage = useCoverage(edition);
  const [view, setView] = useState<View>("Table");
  if (coverage.isPending)
    return (
      <section className="panel">
        <Bars label="The coverage is loading" rows={5} />
      </section>
    );
  if (coverage.isError)
    return (
      <section className="panel">
        <Failed
          what="The coverage could not be loaded."
          error={coverage.error}
          retry={() => void coverage.refetch()}
        />
      </section>
    );
  const { total, nowhere } = coverage.data;
  return (
    <section className="panel coverage" aria-labelledby="coverage-title">
      <div className="coverage-bars">
        <div className="panel-head coverage-head">
          <h2 className="panel-title" id="coverage-title">
            Coverage
          </h2>
          <Segmented<View> options={["Map", "Table"]} value={view} onChange={setView} aria-label="View" />
        </div>
        <LevelBar
          name="IPv4"
          of={`${amount(total.ipv4_addresses)} addresses`}
          parts={[
            total.ipv4_city,
            total.ipv4_region - total.ipv4_city,
            total.ipv4_addresses - total.ipv4_region,
            nowhere.ipv4_addresses,
          ]}
        />
        <LevelBar
          name="IPv6"
          of={`${amount(total.ipv6_48s)} /48s`}
          parts={[
            total.ipv6_city,
            total.ipv6_region - total.ipv6_city,
            total.ipv6_48s - total.ipv6_region,
            nowhere.ipv6_48s,
          ]}
        />
        <p className="small legend-levels">
          {["city", "region", "country", "none"].map((level) => (
            <span key={level}>
              <i className={level} aria-hidden="true" />
              {level}
            </span>
          ))}
        </p>
      </div>
      {view === "Table" ? <Countries coverage={coverage.data} /> : <CoverageMap coverage={coverage.data} />}
    </section>
  );
}

function LevelBar({ name, of, parts }: { name: string; of: string; parts: number[] }) {
  const all = parts.reduce((sum, n) => sum + n, 0) || 1;
  const levels = ["city", "region", "country", "none"];
  return (
    <div>
      <p className="levelbar-head">
        <b>{name}</b> <span className="small second">{of}</span>
      </p>
      <div
        className="levelbar"
        role="img"
        aria-label={levels.map((l, i) => `${l} ${percent((parts[i] ?? 0) / all)}`).join(", ")}
      >
        {parts.map((n, i) => {
          const share = n / all;
          return (
            share > 0 && (
              <span key={levels[i]} className={levels[i]} style={{ flexGrow: Math.max(share, 0.01) }}>
                {share >= 0.12 && percent(share)}
              </span>
            )
          );
        })}
      </div>
    </div>
  );
}

function Countries({ coverage }: { coverage: Coverage }) {
  const { site } = useSite();
  const visits = useCountries(site?.host ?? "");
  const counts = new Map(visits.data?.rows.map((r) => [r.country_code, r.visits]));
  const rows = [...coverage.countries].sort(
    (a, b) => (counts.get(b.country_code) ?? 0) - (counts.get(a.country_code) ?? 0),
  );
  return (
    <div className="coverage-countries" tabIndex={0} role="region" aria-label="Coverage by country">
      <table className="evidence atlas-table">
        <Heads of={["Country", ">City, IPv4", ">IPv6", ">Visits"]} />
        <tbody>
          {rows.map((c) => {
            const v4 = c.ipv4_addresses ? c.ipv4_city / c.ipv4_addresses : null;
            const n = counts.get(c.country_code) ?? 0;
            return (
              <tr key={c.country_code}>
                <td className="nowrap">
                  <Country code={c.country_code} name={c.country} />
                </td>
                <td className="right nowrap">
                  {v4 !== null && (
                    <svg className="sharebar" viewBox="0 0 48 5" aria-hidden="true">
                      <rect className="whole" width="48" height="5" rx="2.5" />
                      <rect className="part" width={48 * v4} height="5" rx="2.5" />
                    </svg>
                  )}
                  {percent(v4)}
                </td>
                <td className="right">{percent(c.ipv6_48s ? c.ipv6_city / c.ipv6_48s : null)}</td>
                <td className="right">
                  {n > 0 ? (
                    <Link className="num" to={`/visits?country_code=${c.country_code}`}>
                      {n.toLocaleString("en")}
                    </Link>
                  ) : (
                    <span className="second">{visits.data ? "none" : "–"}</span>
                  )}
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
    </div>
  );
}

/** CoverageMap draws a circle a country, its area by addresses, at the middle of its people. */
function CoverageMap({ coverage }: { coverage: Coverage }) {
  const { ref, width, height } = useSize<HTMLDivElement>();
  const outlines = useOutlines("110m");
  const projection = useMemo(
    () =>
      geoNaturalEarth1().fitExtent(
        [
          [8, 8],
          [Math.max(100, width - 8), Math.max(80, height - 8)],
        ],
        { type: "Sphere" },
      ),
    [width, height],
  );
  const path = geoPath(projection).digits(1);
  const most = Math.max(...coverage.countries.map((c) => c.ipv4_addresses), 1);
  return (
    <div ref={ref} className="coverage-map">
      <svg
        width={width}
        height={height}
        role="img"
        aria-label="Circles at the middle of each country, by its IPv4 addresses; the table has the figures."
      >
        <path className="map-water" d={path({ type: "Sphere" }) ?? ""} />
        <path className="map-lines" d={path(graticule) ?? ""} />
        {outlines && <path className="map-land" d={path(outlines.land) ?? ""} />}
        {coverage.countries.map((c) => {
          const at =
            c.latitude === null || c.longitude === null ? null : projection([c.longitude, c.latitude]);
          return (
            at && (
              <circle
                key={c.country_code}
                className="coverage-circle"
                cx={at[0]}
                cy={at[1]}
                r={2 + 14 * Math.sqrt(c.ipv4_addresses / most)}
              >
                <title>{`${c.country}, ${amount(c.ipv4_addresses)} IPv4 addresses`}</title>
              </circle>
            )
          );
        })}
      </svg>
    </div>
  );
}

import { counted } from "../../components/format";
import { Link } from "react-router";
import type { GateRules, GateSimulation, GateState } from "../../api/client";
import { useSimulation } from "../../api/gate";
import { Country } from "../../components/parts";
import { Bars, Failed } from "../../components/states";

/** Simulation says what rules would have done to the visits of the last week, beside those in force. */
export function Simulation(props: { state: GateState; rules: GateRules; changed: boolean }) {
  const s = useSimulation(props.state.site, props.rules);
  return (
    <section className="panel gate-simulation" aria-label="Simulation">
      <div className="gate-side-head">
        <h2 className="panel-title">
          {props.changed ? "Draft on the last 7 days" : "Live on the last 7 days"}
        </h2>
        {s.data && (
          <span className="small second">
            ran in{" "}
            {s.data.took_ms < 1000
              ? `${Math.ceil(s.data.took_ms)} ms`
              : `${(s.data.took_ms / 1000).toFixed(1)} s`}
          </span>
        )}
      </div>
      {s.isPending ? (
        <Bars label="The visits are decided about again" />
      ) : s.isError ? (
        <Failed what="The rules could not be tried." error={s.error} retry={() => void s.refetch()} />
      ) : (
        <div className={s.isPlaceholderData ? "dimmed" : ""}>
          <Answer s={s.data} changed={props.changed} />
        </div>
      )}
    </section>
  );
}

function Answer({ s, changed }: { s: GateSimulation; changed: boolean }) {
  const more = s.draft - s.live;
  const rows = [...s.countries.slice(0, 6), ...(s.missing.draft + s.missing.live > 0 ? [s.missing] : [])];
  const rest = s.countries.length - Math.min(6, s.countries.length);
  const most = Math.max(1, ...rows.map((r) => Math.max(r.draft, r.live)));
  const day = Math.max(1, ...s.days.map((d) => Math.max(d.draft, d.live)));
  return (
    <>
      <p className="serif gate-sum">
        <b>{s.draft.toLocaleString("en")}</b> of{" "}
        <Link className="numlink" to={`/visits?from=${encodeURIComponent(s.from)}`}>
          {s.visits.toLocaleString("en")}
        </Link>{" "}
        visits would be refused
        {changed && more !== 0 && (
          <>
            , <b>{`${Math.abs(more).toLocaleString("en")} ${more > 0 ? "more" : "fewer"} than live`}</b>
          </>
        )}
        .
      </p>
      {rows.length > 0 && (
        <table className="gate-table">
          <thead>
            <tr>
              <th>Refused from</th>
              <th aria-hidden="true" />
              <th className="right">Live</th>
              {changed && <th className="right">Draft</th>}
            </tr>
          </thead>
          <tbody>
            {rows.map((r) => (
              <tr key={r.key || "missing"}>
                <td>
                  <Country code={r.key || null} name={r.name} />
                </td>
                <td aria-hidden="true">
                  <span className="twobars">
                    <i style={{ width: `${(100 * r.live) / most}%` }} />
                    {changed && <i className="now" style={{ width: `${(100 * r.draft) / most}%` }} />}
                  </span>
                </td>
                <td className="num right">{r.live.toLocaleString("en")}</td>
                {changed && (
                  <td className="num right">
                    <b>{r.draft.toLocaleString("en")}</b>
                  </td>
                )}
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {rest > 0 && <p className="small second">{rest} more countries</p>}
      <div
        className="gate-days"
        role="img"
        aria-label={s.days.map((d) => `${d.name}: ${d.live} live, ${d.draft} draft`).join("; ")}
      >
        {s.days.map((d) => (
          <span key={d.key}>
            <span>
              <i style={{ height: `${(36 * d.live) / day}px` }} />
              {changed && <i className="now" style={{ height: `${(36 * d.draft) / day}px` }} />}
            </span>
            <span className="small second">{d.name}</span>
          </span>
        ))}
        {changed && (
          <span className="gate-legend small second">
            <i /> live <i className="now" /> draft
          </span>
        )}
      </div>
      {s.paths.length > 0 && (
        <p className="small second">
          Pages{" "}
          {s.paths.slice(0, 3).map((p) => (
            <span key={p.key} className="gate-path">
              <span className="addr">{p.name}</span> <b>{p.draft.toLocaleString("en")}</b>
            </span>
          ))}
        </p>
      )}
      {[
        ...s.notes,
        ...(s.refused_requests > 0
          ? [`Really refused in that time: ${counted(s.refused_requests, "request")}.`]
          : []),
        ...(s.left_out > 0
          ? [`${s.left_out.toLocaleString("en")} visits of bots, monitors and tests are left out.`]
          : []),
        ...(s.partial
          ? [`There were more visits; the newest ${s.read.toLocaleString("en")} were read.`]
          : []),
      ].map((n) => (
        <p key={n} className="small second">
          {n}
        </p>
      ))}
    </>
  );
}

import { Button, Progress } from "antd";
import dayjs from "dayjs";
import { useAction, useChange } from "../../api/changes";
import { api, unwrap, type Edition, type Job } from "../../api/client";
import { counted, clockTime } from "../../components/format";
import { Icon } from "../../components/icons";

/** useActivate takes an edition into use, or with "" goes back, and says so. */
export function useActivate() {
  return useChange({
    call: (edition: string) =>
      edition
        ? unwrap(api.POST("/v1/atlas/activate", { body: { edition } }))
        : unwrap(api.POST("/v1/atlas/back", {})),
    stale: "all",
    done: (used) => `Edition ${used.edition} is in use.`,
  });
}

/** useBuild asks for a new edition. */
export function useBuild() {
  return useAction<unknown>({
    call: () => unwrap(api.POST("/v1/atlas/editions", {})),
    stale: ["editions"],
  }).change;
}

const millions = (n: number) => (n >= 1e5 ? `${(n / 1e6).toFixed(2)} M` : n.toLocaleString("en"));

/** EditionsPanel lists the editions on the shelf, the newest first. */
export function EditionsPanel({ editions, job }: { editions: Edition[]; job: Job }) {
  const { change: activate, busy } = useActivate();
  const build = useBuild();
  return (
    <section className="panel" aria-label="Editions">
      <div className="scroll">
        <table className="evidence atlas-table editions">
          <thead>
            <tr>
              <th scope="col">
                <h2 className="panel-title">Editions</h2>
              </th>
              <th scope="col">State</th>
              <th scope="col" className="right">
                IPv4 ranges
              </th>
              <th scope="col" className="right">
                IPv6
              </th>
              <th scope="col" className="right">
                <Button size="small" onClick={() => build()} disabled={job.running}>
                  Build now
                </Button>
              </th>
            </tr>
          </thead>
          <tbody>
            {job.running && <Building job={job} />}
            {editions.map((e) => (
              <tr key={e.name} className={e.state === "in use" ? "chosen" : ""}>
                <td className="mono">{e.name}</td>
                <td>{e.unusable ? <span className="second">{e.unusable}</span> : <State edition={e} />}</td>
                <td className="right">{millions(e.ranges_ipv4)}</td>
                <td className="right">{millions(e.ranges_ipv6)}</td>
                <td className="right small">
                  {e.state === "in use" ? (
                    <span className="second">{(e.bytes / 1e6).toFixed(1)} MB</span>
                  ) : e.state === "kept" && !e.unusable ? (
                    <button
                      type="button"
                      className="linklike strong"
                      disabled={busy}
                      onClick={() => activate(e.name)}
                    >
                      Go back to it
                    </button>
                  ) : null}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </section>
  );
}

function State({ edition }: { edition: Edition }) {
  const last = edition.uses[edition.uses.length - 1];
  if (edition.state === "in use")
    return (
      <>
        <span className="okline">
          <Icon name="check" /> <b>in use</b>
        </span>{" "}
        {last && <span className="small second">since {clockTime(last.since)}</span>}
      </>
    );
  if (edition.state === "ready")
    return (
      <>
        <b>ready</b>{" "}
        <span className="small second">
          built {clockTime(edition.built)}
          {edition.report ? ` in ${took(edition.report.seconds)}` : ""}
        </span>
      </>
    );
  return (
    <span className="second">
      kept{" "}
      <span className="small">
        {last?.until
          ? `in use until ${clockTime(last.until)}`
          : `built ${dayjs(edition.built).format("D MMM")}`}
      </span>
    </span>
  );
}

const took = (seconds: number) => (seconds < 1 ? "under a second" : `${Math.round(seconds)} s`);

/** Building says how far a build is. */
function Building({ job }: { job: Job }) {
  const done = job.sources.filter((s) => s.doing === "read").length;
  const lines = job.sources.reduce((n, s) => n + s.lines, 0);
  return (
    <tr>
      <td>
        <b>New edition</b>
      </td>
      <td colSpan={4}>
        <span className="building">
          <span>
            {job.doing}
            <span className="small second"> · {counted(lines, "line")}</span>
          </span>
          <Progress
            percent={Math.round((100 * done) / Math.max(1, job.sources.length))}
            size="small"
            status="active"
            aria-label="Sources read"
          />
        </span>
      </td>
    </tr>
  );
}

import { Button, Modal } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import type { Change, Changes, Edition, Job } from "../../api/client";
import { useChanges } from "../../api/queries";
import { counted, km } from "../../components/format";
import { Addr, AttentionChip } from "../../components/parts";
import { Bars, Failed } from "../../components/states";
import { useBuild, useActivate } from "./EditionsPanel";
import { amount, dated, spotName } from "./words";

const kinds = [
  { key: "country", name: "Country" },
  { key: "region", name: "Region" },
  { key: "city", name: "City" },
  { key: "moved", name: "Point" },
] as const;

/** ActivatePanel says what the edition that waits would change, before it is used. */
export function ActivatePanel({ now, ready, job }: { now: string; ready: Edition | undefined; job: Job }) {
  const changes = useChanges(ready?.name ?? "", now);
  const build = useBuild();
  if (!ready)
    return (
      <section className="panel activate" aria-labelledby="activate-title">
        <h2 className="panel-title" id="activate-title">
          No newer edition
        </h2>
        <p className="second">
          Edition {dated(now)} is in use. Another is built when a source has changed, or when you ask for it.
        </p>
        <Button onClick={() => build()} disabled={job.running}>
          {job.running ? "Building…" : "Build now"}
        </Button>
      </section>
    );
  return (
    <section className="panel activate" aria-labelledby="activate-title">
      <h2 className="panel-title" id="activate-title">
        If you activate {dated(ready.name)}
      </h2>
      {changes.isPending ? (
        <Bars label="The editions are being compared" rows={5} />
      ) : changes.isError ? (
        <Failed
          what="They could not be compared."
          error={changes.error}
          retry={() => void changes.refetch()}
        />
      ) : (
        <Difference changes={changes.data} edition={ready} />
      )}
    </section>
  );
}

function Difference({ changes, edition }: { changes: Changes; edition: Edition }) {
  const { change: activate, busy } = useActivate();
  const [all, setAll] = useState(false);
  const list = changes.largest ?? [];
  const visits = changes.visits.differently.visits;
  return (
    <>
      {changes.ranges === 0 ? (
        <p className="activate-sentence">It would change nothing.</p>
      ) : (
        <p className="activate-sentence">
          It would move{" "}
          <button type="button" className="num linklike" onClick={() => setAll(true)}>
            {changes.ranges.toLocaleString("en")} {changes.ranges === 1 ? "range" : "ranges"}
          </button>
          {visits > 0 ? (
            <>
              , where{" "}
              <Link className="num" to="/visits">
                {counted(visits, "visit")}
              </Link>{" "}
              of the last {counted(changes.visits.days, "day")} came from.
            </>
          ) : (
            <>; no visit of the last {counted(changes.visits.days, "day")} came from there.</>
          )}
        </p>
      )}
      <table className="activate-counts">
        <tbody>
          {kinds.map(({ key, name }) => {
            const n = changes.counts[key];
            return (
              n && (
                <tr key={key}>
                  <th scope="row">{name}</th>
                  <td className="right">
                    <b>{n.ranges.toLocaleString("en")}</b>
                  </td>
                  <td className="small second">
                    {[
                      n.ipv4_addresses > 0 && `${amount(n.ipv4_addresses)} IPv4 addresses`,
                      n.ipv6_48s > 0 && `${amount(n.ipv6_48s)} IPv6 /48s`,
                    ]
                      .filter(Boolean)
                      .join(", ")}
                  </td>
                </tr>
              )
            );
          })}
        </tbody>
      </table>
      {changes.km.p50 !== null && (
        <p className="small second">Half of the ranges move by less than {km(changes.km.p50)}.</p>
      )}
      {list.length > 0 && <ChangeTable changes={list.slice(0, 3)} />}
      <div className="activate-actions">
        <Button type="primary" loading={busy} onClick={() => activate(edition.name)}>
          Use {dated(edition.name)}
        </Button>
        {list.length > 3 && (
          <Button onClick={() => setAll(true)}>
            {changes.ranges > list.length
              ? `Look at the largest ${list.length}`
              : `Look at all ${list.length}`}
          </Button>
        )}
      </div>
      <p className="small second">No request waits; you can go back at any time.</p>
      {all && (
        <Modal
          open
          width={760}
          title={`From ${changes.now} to ${changes.then}`}
          footer={null}
          onCancel={() => setAll(false)}
        >
          <div className="scroll modal-scroll">
            <ChangeTable changes={list} whole />
          </div>
        </Modal>
      )}
    </>
  );
}

function ChangeTable({ changes, whole = false }: { changes: Change[]; whole?: boolean }) {
  return (
    <table className="evidence atlas-table changes">
      <thead>
        <tr>
          <th scope="col">{whole ? "Range" : "Largest"}</th>
          <th scope="col">Now</th>
          <th scope="col">Then</th>
          {whole && (
            <th scope="col" className="right">
              Moves
            </th>
          )}
        </tr>
      </thead>
      <tbody>
        {changes.map((c) => (
          <tr key={c.range}>
            <td>
              <Addr text={c.range} short={!whole} />
            </td>
            <td>{spotName(c.now)}</td>
            <td>
              <span className="quiet" aria-hidden="true">
                →{" "}
              </span>
              {c.difference === "country" ? (
                <AttentionChip>{spotName(c.then)}</AttentionChip>
              ) : (
                spotName(c.then)
              )}
            </td>
            {whole && <td className="right">{c.km === null ? "–" : km(c.km)}</td>}
          </tr>
        ))}
      </tbody>
    </table>
  );
}

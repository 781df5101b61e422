import { Heads } from "../../components/Heads";
import { Button, Modal } from "antd";
import { useState } from "react";
import type { AtlasEdition, Evidence, Job, Note } from "../../api/client";
import { Icon } from "../../components/icons";
import { Basis, AttentionChip, Prose } from "../../components/parts";
import { DescribeModal } from "./DescribeModal";
import { age } from "./words";

/** after how many days a source wants a look. */
const stale = 31;

const isStale = (date: string | null) =>
  date !== null && (Date.now() - Date.parse(date)) / 86_400_000 > stale;

/** SourcesPanel lists the sources of the edition in use, by rank. */
export function SourcesPanel({ atlas, job }: { atlas: AtlasEdition; job: Job }) {
  const [rejects, setRejects] = useState<{ name: string; notes: Note[]; all: number } | null>(null);
  const [adding, setAdding] = useState(false);
  const bad = job.failed !== "" && !job.running;
  return (
    <section className="panel" aria-labelledby="sources-title">
      <div className="panel-head keys-head">
        <h2 className="panel-title" id="sources-title">
          Sources by rank
        </h2>
        <span className="small second">the highest that says anything wins</span>
        <Button icon={<Icon name="plus" />} onClick={() => setAdding(true)}>
          Add a source
        </Button>
      </div>
      <div className="scroll">
        <table className="evidence atlas-table sources">
          <Heads of={[">Rank", "Source, licence, credit", "Basis", ">Age", ">Rows", ">Rejects"]} />
          <tbody>
            {atlas.sources.map((s) => (
              <tr key={s.name}>
                <td className="right serif rank">{s.rank === 0 ? "–" : s.rank}</td>
                <td>
                  <b>{s.name}</b>
                  <span className="block small second">
                    {[s.licence, s.credit].filter(Boolean).join(" · ") || "no licence named"}
                  </span>
                </td>
                <td className="nowrap">
                  <Basis basis={s.basis as Evidence["basis"]} />
                </td>
                <td className="right nowrap">
                  {s.rank === 0 ? (
                    "live"
                  ) : isStale(s.dated) ? (
                    <AttentionChip>{age(s.dated)}</AttentionChip>
                  ) : (
                    age(s.dated)
                  )}
                </td>
                <td className="right">{s.rows.toLocaleString("en")}</td>
                <td className="right">
                  {s.rejected + s.remarks.length > 0 ? (
                    <button
                      type="button"
                      className="num linklike"
                      aria-label={`${s.rejected} rejects and ${s.remarks.length} remarks of ${s.name}`}
                      onClick={() =>
                        setRejects({ name: s.name, notes: [...s.rejects, ...s.remarks], all: s.rejected })
                      }
                    >
                      {s.rejected > 0
                        ? s.rejected.toLocaleString("en")
                        : `${s.remarks.length} ${s.remarks.length === 1 ? "remark" : "remarks"}`}
                    </button>
                  ) : (
                    <span className="second">none</span>
                  )}
                </td>
              </tr>
            ))}
            <tr>
              <td className="right serif rank">–</td>
              <td>
                <b>Gazetteer</b>
                <span className="block small second">CC BY 4.0 · towns and their zones</span>
              </td>
              <td className="nowrap">
                <Basis basis="derived" />
              </td>
              <td className="right second small">built in</td>
              <td />
              <td />
            </tr>
          </tbody>
        </table>
      </div>
      {bad && (
        <p className="atlas-foot" role="status">
          <span className="attention-dot" aria-hidden="true" />
          <span>
            <b>The last build failed.</b> <Prose text={job.failed} /> The edition in use stays.
          </span>
        </p>
      )}
      {rejects && (
        <Modal open title={rejects.name} footer={null} width={720} onCancel={() => setRejects(null)}>
          <p className="second">
            {rejects.all.toLocaleString("en")} lines were rejected. These are the first, with what was only
            remarked.
          </p>
          <Notes notes={rejects.notes} />
        </Modal>
      )}
      {adding && <DescribeModal onClose={() => setAdding(false)} />}
    </section>
  );
}

export function Notes({ notes }: { notes: Note[] }) {
  return (
    <div className="scroll modal-scroll">
      <table className="evidence atlas-table">
        <Heads of={[">Line", "Reason", "Text"]} />
        <tbody>
          {notes.map((n, i) => (
            <tr key={i}>
              <td className="right">{n.line}</td>
              <td>
                <Prose text={n.reason} />
              </td>
              <td className="mono small breakable">
                <Prose text={n.text} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

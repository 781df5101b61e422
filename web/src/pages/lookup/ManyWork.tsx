import { Button, Progress, Segmented, Select } from "antd";
import { useState } from "react";
import { Prose } from "../../components/parts";
import { Failed } from "../../components/states";
import { cells, how, type Plan } from "./lines";
import { useMany } from "./useMany";
import { answersCSV, useSave } from "./manyFiles";
import { Rejects } from "./ManyRejects";
import { Summary } from "./ManySummary";
import { AnswerTable } from "./ManyTable";

/** shown rows at the most. */
const shown = 500;

type Which = "All" | "Skipped" | "Rejects";

export function Work(props: {
  name: string;
  lines: string[];
  plan: Plan;
  onPlan: (plan: Plan) => void;
  onAgain: () => void;
}) {
  const { name, lines, plan } = props;
  const many = useMany(lines, plan);
  const download = useSave();
  const [which, setWhich] = useState<Which>("All");
  const [changing, setChanging] = useState(false);
  const rows = many.rows;
  const picked = rows.filter(
    (r) => which === "All" || (which === "Rejects" ? r.problem !== null : r.aside && r.problem === null),
  );
  const rejects = rows.filter((r) => r.problem !== null);
  const different = new Set(rows.map((r) => r.address).filter(Boolean)).size;
  const left = many.perSecond > 0 ? Math.ceil((many.all - many.done) / many.perSecond) : 0;
  const isOver = many.going === "done" || many.going === "failed";
  const isWhole = many.done === many.all;
  return (
    <div className="many">
      <section className="panel many-bar" aria-label="Progress">
        <div className="many-progress">
          <p>
            <b>
              <Prose text={name} />
            </b>{" "}
            <span className="small second">
              <Prose text={how(plan)} />
            </span>{" "}
            {plan.separator !== "" && (
              <button type="button" className="linklike small" onClick={() => setChanging(!changing)}>
                Change
              </button>
            )}
          </p>
          {changing && (
            <Select
              size="small"
              aria-label="Column of the addresses"
              value={plan.column}
              options={cells(lines[0] ?? "", plan.separator).map((_, i) => ({
                value: i,
                label: plan.head[i] ? <Prose text={plan.head[i]} /> : `column ${i + 1}`,
              }))}
              onChange={(column: number) => {
                setChanging(false);
                props.onPlan({ ...plan, column });
              }}
            />
          )}
          <Progress
            percent={many.all ? Math.round((100 * many.done) / many.all) : 100}
            showInfo={false}
            strokeColor="var(--ep-primary)"
            size="small"
            aria-label="Lines answered"
          />
          <p className="small many-figures" aria-live="off">
            <span>
              <b>{many.done.toLocaleString("en")}</b> of {many.all.toLocaleString("en")} lines
            </span>
            {many.perSecond > 0 && <span>{Math.round(many.perSecond).toLocaleString("en")} a second</span>}
            {many.going === "running" && <span>{left} s left</span>}
            {many.going === "paused" && <span>paused</span>}
            <span className="second">Nothing leaves this service.</span>
          </p>
        </div>
        <div className="many-actions">
          {many.going === "running" && <Button onClick={many.pause}>Pause</Button>}
          {(many.going === "paused" || many.going === "failed") && (
            <Button onClick={many.resume}>Go on</Button>
          )}
          {isOver ? (
            <Button onClick={props.onAgain}>Another list</Button>
          ) : (
            <Button onClick={many.stop}>Stop here</Button>
          )}
          <Button
            type="primary"
            disabled={rows.length === 0}
            onClick={() => download(isWhole ? "answers.csv" : "answers-so-far.csv", answersCSV(rows))}
          >
            {isWhole ? "Download" : "Download so far"}
          </Button>
        </div>
      </section>
      {many.going === "failed" && (
        <section className="panel">
          <Failed what="The answer was cut short." error={many.error} retry={many.resume} />
        </section>
      )}
      <div className="many-columns">
        <section className="panel many-answers" aria-labelledby="answers-title">
          <div className="panel-head coverage-head">
            <h2 className="panel-title" id="answers-title">
              Answers <span className="small second">in the order of the list</span>
            </h2>
            <Segmented<Which> options={["All", "Skipped", "Rejects"]} value={which} onChange={setWhich} />
          </div>
          <AnswerTable rows={picked.slice(0, shown)} />
          <p className="many-foot small">
            <b>{rows.length.toLocaleString("en")}</b> lines answered, <b>{different.toLocaleString("en")}</b>{" "}
            different addresses.
            {picked.length > shown && ` The first ${shown} are shown; the download has all.`}
          </p>
        </section>
        <div className="atlas-side">
          <Summary rows={rows} />
          <Rejects rejects={rejects} />
        </div>
      </div>
    </div>
  );
}

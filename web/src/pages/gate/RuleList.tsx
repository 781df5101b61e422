import { Button } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import type { Gate, GateFinding, GateState } from "../../api/client";
import { useCountryChoices } from "../../api/queries";
import { Icon } from "../../components/icons";
import { Prose } from "../../components/parts";
import { GateChip } from "../../features/gate/outcome";
import { RuleEditor } from "./RuleEditor";
import { endOf, findingsAt, hitsOf, moved } from "./rules";
import { Sentence, Under, endWords } from "./Sentence";

/** RuleList lists the rules of a gate in their order; one is changed in its place. */
export function RuleList(props: {
  gate: Gate;
  index: number;
  live: Gate | undefined;
  state: GateState;
  zone: string;
  findings: GateFinding[];
  onChange: (gate: Gate) => void;
}) {
  const { gate, state } = props;
  const [open, setOpen] = useState<number | null>(null);
  const [dragged, setDragged] = useState<number | null>(null);
  const countries = useCountryChoices().data?.countries ?? [];
  const nameOf = (code: string) => countries.find((c) => c.country_code === code)?.name ?? code;
  const setRules = (rules: Gate["rules"]) => props.onChange({ ...gate, rules });
  const move = (from: number, to: number) => {
    if (to < 0 || to >= gate.rules.length || from === to) return;
    setRules(moved(gate.rules, from, to));
    setOpen(open === from ? to : null);
  };
  const gone = (props.live?.rules ?? []).filter(
    (r) =>
      !gate.rules.some((now) => JSON.stringify(now) === JSON.stringify(r)) &&
      (props.live?.rules.length ?? 0) > gate.rules.length,
  );
  return (
    <>
      <ol className="gate-rules">
        {gate.rules.map((rule, i) => {
          const found = findingsAt(props.findings, props.index, i);
          return (
            <li
              key={i}
              className={open === i ? "open" : dragged === i ? "dragged" : ""}
              onDragOver={(e) => e.preventDefault()}
              onDrop={() => dragged !== null && move(dragged, i)}
            >
              <button
                type="button"
                className="grip"
                draggable
                aria-label={`Rule ${i + 1}: drag, or move with the arrow keys`}
                onDragStart={(e) => {
                  e.dataTransfer.effectAllowed = "move";
                  setDragged(i);
                }}
                onDragEnd={() => setDragged(null)}
                onKeyDown={(e) => {
                  if (e.key !== "ArrowUp" && e.key !== "ArrowDown") return;
                  e.preventDefault();
                  move(i, e.key === "ArrowUp" ? i - 1 : i + 1);
                }}
              >
                <Icon name="grip" />
                <span className="serif num">{i + 1}</span>
              </button>
              <div className="gate-rule">
                <button
                  type="button"
                  className="gate-open"
                  aria-expanded={open === i}
                  onClick={() => setOpen(open === i ? null : i)}
                >
                  <Sentence rule={rule} list={gate.list} nameOf={nameOf} />
                  <Under rule={rule} />
                </button>
                {found.map((f) => (
                  <p key={f.text} className={f.severity === "error" ? "small bad" : "small gate-warned"}>
                    <Prose text={f.text} />
                  </p>
                ))}
              </div>
              <Hits state={state} gate={gate.name} rule={i + 1} />
              {open === i && (
                <RuleEditor
                  rule={rule}
                  list={gate.list}
                  state={state}
                  siteZone={props.zone}
                  onChange={(next) => setRules(gate.rules.map((r, n) => (n === i ? next : r)))}
                  onRemove={() => {
                    setOpen(null);
                    setRules(gate.rules.filter((_, n) => n !== i));
                  }}
                />
              )}
            </li>
          );
        })}
        {gone.map((rule, i) => (
          <li key={`gone${i}`} className="gone">
            <span />
            <div className="gate-rule">
              <del>
                <Sentence rule={rule} list={gate.list} nameOf={nameOf} />
              </del>
            </div>
          </li>
        ))}
        <li className="end">
          <span className="serif num">{gate.rules.length + 1}</span>
          <div className="gate-rule">
            <span className="gate-sentence">
              <GateChip outcome={endOf(gate)} word={endOf(gate) === "admit" ? "Admit" : "Refuse"} /> everybody
              else
            </span>
            <span className="small second">{endWords(gate)}</span>
            {findingsAt(props.findings, props.index, null).map((f) => (
              <p key={f.text} className={f.severity === "error" ? "small bad" : "small gate-warned"}>
                <Prose text={f.text} />
              </p>
            ))}
          </div>
          <Hits state={state} gate={gate.name} rule={0} />
        </li>
      </ol>
      <p className="gate-add">
        <Button
          icon={<Icon name="plus" />}
          onClick={() => {
            setRules([...gate.rules, { countries: [] }]);
            setOpen(gate.rules.length);
          }}
        >
          Add a rule
        </Button>
      </p>
    </>
  );
}

/** Hits is how often a rule decided in the last 24 hours. */
function Hits(props: { state: GateState; gate: string; rule: number }) {
  const n = hitsOf(props.state, props.gate, props.rule);
  const path =
    props.state.live.rules.gates.find((g) => g.name === props.gate)?.path.replace(/\*.*$/, "") ?? "/";
  return n > 0 ? (
    <Link className="numlink num gate-hit" to={`/visits?path=${encodeURIComponent(path)}`}>
      {n.toLocaleString("en")}
    </Link>
  ) : (
    <span className="num quiet gate-hit">0</span>
  );
}

/** Findings sums up what the check found. */
export function Findings({ findings }: { findings: GateFinding[] }) {
  const errors = findings.filter((f) => f.severity === "error");
  if (findings.length === 0)
    return (
      <span className="small second gate-found">
        <Icon name="check" /> No contradiction, no dead rule
      </span>
    );
  return (
    <span className={errors.length ? "small bad gate-found" : "small gate-warned gate-found"} role="status">
      <Prose text={(errors[0] ?? findings[0])?.text ?? ""} />
      {findings.length > 1 && ` And ${findings.length - 1} more.`}
    </span>
  );
}

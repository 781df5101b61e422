import type { ReactNode } from "react";
import type { Gate, GateRule } from "../../api/client";
import { LabelChip, Prose } from "../../components/parts";
import { absences, absenceKeys, GateChip } from "../../features/gate/outcome";
import { isEverybody, outcomeOf, places } from "./rules";

/** most is how many entries are named before they are counted. */
const most = 3;

function listed(entries: string[], many: string): ReactNode {
  if (entries.length > most) return <b>{`${entries.length} ${many}`}</b>;
  return entries.map((e, i) => (
    <span key={e}>
      {i > 0 && (i === entries.length - 1 ? " or " : ", ")}
      <b>
        <Prose text={e} />
      </b>
    </span>
  ));
}

/** Sentence says what a rule does, with its chip in front. */
export function Sentence(props: { rule: GateRule; list: Gate["list"]; nameOf: (code: string) => string }) {
  const { rule, list, nameOf } = props;
  const outcome = outcomeOf(rule, list);
  const who: ReactNode[] = [];
  const of = (key: keyof GateRule) => (rule[key] as string[] | undefined) ?? [];
  if (of("labels").length)
    who.push(
      <>
        whoever carries the label{" "}
        {of("labels").map((l, i) => (
          <span key={l}>
            {i > 0 && " or "}
            <LabelChip label={l} />
          </span>
        ))}
      </>,
    );
  if (of("kinds").length) who.push(<>{listed(of("kinds"), "kinds of address")} addresses</>);
  if (of("countries").length) who.push(<>visits from {listed(of("countries").map(nameOf), "countries")}</>);
  if (of("groups").length) who.push(<>visits from the group {listed(of("groups"), "groups")}</>);
  if (of("regions").length) who.push(<>visits from {listed(of("regions"), "regions")}</>);
  if (of("areas").length) who.push(<>visits from the area {listed(of("areas"), "areas")}</>);
  if (of("networks").length) who.push(<>addresses of {listed(of("networks"), "networks")}</>);
  if (isEverybody(rule)) who.push(<b>everybody</b>);
  return (
    <span className="gate-sentence">
      <GateChip outcome={outcome} word={outcome === "admit" ? "Admit" : "Refuse"} />{" "}
      {who.map((w, i) => (
        <span key={i}>
          {i > 0 && ", or "}
          {w}
        </span>
      ))}
      {rule.from && (
        <>
          {" from "}
          <b>{rule.from.replace("T", " ")}</b>
        </>
      )}
      {rule.until && (
        <>
          {" until "}
          <b>{rule.until.replace("T", " ")}</b>
        </>
      )}
    </span>
  );
}

/** Under is the line below a rule: its clock, what it rests on, and what it does without a location. */
export function Under({ rule }: { rule: GateRule }) {
  const parts: string[] = [];
  if (rule.time_zone) parts.push(`Clock of ${rule.time_zone}.`);
  if (rule.basis) parts.push(`Only where the country rests on a ${rule.basis} or better.`);
  const chosen = absenceKeys.filter((k) => rule.missing?.[k] && rule.missing[k] !== "next");
  if (chosen.length) parts.push(...chosen.map((k) => `${absences[k]}: ${rule.missing?.[k]}.`));
  else if (places(rule)) parts.push("Without a location: the next rule.");
  else parts.push("Where they are does not matter here.");
  return <span className="small second">{parts.join(" ")}</span>;
}

/** EndWords says what a gate does at its end, and without a location. */
export const endWords = (gate: Gate) => {
  const sum = absenceKeys.map((k) => gate.missing[k]);
  const alike = sum.every((s) => s === sum[0]);
  return alike
    ? `Without a location: ${sum[0]}.`
    : absenceKeys.map((k) => `${absences[k]}: ${gate.missing[k]}.`).join(" ");
};

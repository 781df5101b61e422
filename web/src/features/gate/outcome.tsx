import "./outcome.css";
import type { GateDecision } from "../../api/client";
import { Icon } from "../../components/icons";

export type Outcome = "admit" | "refuse";

/** GateChip says what a gate does. */
export function GateChip({ outcome, word }: { outcome: Outcome; word?: string }) {
  return (
    <span className={`chip gate ${outcome}`}>
      <Icon name={outcome === "admit" ? "check" : "close"} />
      {word ?? outcome}
    </span>
  );
}

/** DecisionChip is GateChip for a decision: a gate that only watches says what it would do. */
export function DecisionChip({ decision }: { decision: GateDecision }) {
  return decision.outcome === decision.would ? (
    <GateChip outcome={decision.outcome} />
  ) : (
    <GateChip outcome="refuse" word="would refuse" />
  );
}

/** absences are the reasons for which a location is missing, in words. */
export const absences = {
  unknown: "Location not known",
  skipped: "Address skipped",
  not_found: "Visitor not found",
  no_data: "No range data",
} as const;

export type Absence = keyof typeof absences;
export const absenceKeys = Object.keys(absences) as Absence[];

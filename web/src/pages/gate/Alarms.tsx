import type { GateState } from "../../api/client";

/** Alarms says that refusals jumped, or that locations are missing more often than usual. */
export function Alarms({ state }: { state: GateState }) {
  if (state.alarms.length === 0) return null;
  return (
    <div className="banner gate-alarms" role="status">
      <span className="attention-dot" aria-hidden="true" />
      <span>{state.alarms.map((a) => a.text).join(" ")}</span>
    </div>
  );
}

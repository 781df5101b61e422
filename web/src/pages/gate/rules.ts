import type { Gate, GateFinding, GateRule, GateRules, GateState } from "../../api/client";

export const outcomeOf = (rule: GateRule, list: Gate["list"]) =>
  rule.do ?? (list === "allow" ? "admit" : "refuse");

export const endOf = (gate: Gate) => (gate.list === "allow" ? "refuse" : "admit");

/** places says whether a rule asks where somebody is. */
export const places = (rule: GateRule) =>
  [rule.countries, rule.groups, rule.regions, rule.areas].some((l) => (l ?? []).length > 0) ||
  (rule.networks ?? []).some((n) => n.toUpperCase().startsWith("AS"));

export const isEverybody = (rule: GateRule) =>
  [rule.countries, rule.groups, rule.regions, rule.areas, rule.labels, rule.kinds, rule.networks].every(
    (l) => (l ?? []).length === 0,
  );

/** hitsOf adds up what a rule (0 for the end of the gate) did in the last 24 hours. */
export const hitsOf = (state: GateState, gate: string, rule: number) =>
  state.hits.reduce((sum, h) => (h.gate === gate && h.rule === rule ? sum + h.requests : sum), 0);

/** without leaves out what is empty, so that what was cleared is as if it had never been; rules stay. */
export function without<T extends object>(value: T): T {
  const kept = Object.entries(value).filter(
    ([key, v]) =>
      v !== undefined &&
      v !== "" &&
      !(Array.isArray(v) && v.length === 0 && key !== "rules") &&
      !(typeof v === "object" && v !== null && !Array.isArray(v) && Object.keys(v as object).length === 0),
  );
  return Object.fromEntries(kept) as T;
}

/** moved puts one element of a list at another place. */
export function moved<T>(list: T[], from: number, to: number): T[] {
  const next = [...list];
  const [one] = next.splice(from, 1);
  if (one !== undefined) next.splice(to, 0, one);
  return next;
}

/** setGate replaces one gate of rules. */
export const setGate = (rules: GateRules, index: number, gate: Gate): GateRules => ({
  ...rules,
  gates: rules.gates.map((g, i) => (i === index ? gate : g)),
});

/** findingsAt are those of one rule of one gate, or where rule is null those of the gate itself. */
export const findingsAt = (findings: GateFinding[], gate: number, rule: number | null) =>
  findings.filter((f) => {
    const of = /^gates\.(\d+)\.(?:rules\.(\d+))?/.exec(f.field);
    return of !== null && Number(of[1]) === gate && (of[2] ? Number(of[2]) === rule : rule === null);
  });

/** fresh is a gate that somebody begins. */
export const fresh = (names: string[]): Gate => {
  let n = 1;
  while (names.includes(`New gate ${n}`)) n++;
  return {
    name: `New gate ${n}`,
    path: "/**",
    mode: "off",
    list: "deny",
    missing: { unknown: "admit", skipped: "admit", not_found: "admit", no_data: "admit" },
    rules: [],
  };
};

import type { VariantSet } from "../../api/client";

export type When = VariantSet["rules"][number]["when"];

const kinds: [keyof When, string][] = [
  ["countries", "in"],
  ["groups", "in a country of"],
  ["areas", "within"],
  ["languages", "reading"],
  ["labels", "labelled"],
];

/** sentence says whom a rule is for: in PT or BR, reading pt. */
export function sentence(when: When): string {
  const parts = kinds.flatMap(([kind, word]) => {
    const list = when[kind] ?? [];
    return list.length > 0 ? [`${word} ${list.join(" or ")}`] : [];
  });
  return parts.length > 0 ? `for visitors ${parts.join(", ")}` : "for everybody";
}

/** withList puts a list into a rule's condition, or leaves it out where it is empty. */
export function withList(when: When, kind: keyof When, list: string[]): When {
  const entries = Object.entries({ ...when, [kind]: list }) as [keyof When, string[]][];
  return Object.fromEntries(entries.filter(([, values]) => values.length > 0));
}

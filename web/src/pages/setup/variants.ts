import type { VariantSet } from "../../api/client";

export type When = VariantSet["rules"][number]["when"];

/** ListKind is a condition that is a list. */
export type ListKind = Exclude<keyof When, "basis">;

const kinds: [ListKind, string][] = [
  ["countries", "in"],
  ["groups", "in a country of"],
  ["areas", "within"],
  ["languages", "reading"],
  ["labels", "labelled"],
  ["categories", "where"],
];

/** sentence says whom a rule is for: in PT or BR, reading pt. */
export function sentence(when: When): string {
  const parts = kinds.flatMap(([kind, word]) => {
    const list = when[kind] ?? [];
    return list.length > 0 ? [`${word} ${list.join(" or ")}`] : [];
  });
  if (when.basis) parts.push(`whose country rests on a ${when.basis} or better`);
  return parts.length > 0 ? `for visitors ${parts.join(", ")}` : "for everybody";
}

/** withList puts a list into a rule's condition, or leaves it out where it is empty. */
export function withList(when: When, kind: ListKind, list: string[]): When {
  const entries = Object.entries({ ...when, [kind]: list });
  return Object.fromEntries(entries.filter(([, values]) => values.length > 0));
}

/** withBasis puts what the country must rest on into a rule's condition; "" leaves it out. */
export function withBasis(when: When, basis: When["basis"] | ""): When {
  const { basis: before, ...rest } = when;
  void before;
  return basis ? { ...rest, basis } : rest;
}

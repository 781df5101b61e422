/** The facts that may be ticked, by their paths in the card. */
export const facts: { group: string; paths: string[] }[] = [
  {
    group: "Location",
    paths: [
      "location.country_code",
      "location.region_code",
      "location.city",
      "location.names.city",
      "location.radius_km",
      "location.time_zone",
    ],
  },
  {
    group: "Locale, clock, money",
    paths: [
      "locale.language",
      "clock.local_time",
      "clock.business_hours",
      "money.currency_code",
      "money.rate",
    ],
  },
  { group: "Content", paths: ["variants"] },
];

/** What is ticked at first. */
export const usual = [
  "location.country_code",
  "location.names.city",
  "locale.language",
  "money.currency_code",
];

/** shortName is a path without the part of the card that it stands in. */
export const shortName = (path: string) => path.slice(path.indexOf(".") + 1);

/** toggled adds a path to a list or takes it out, in the order of the facts. */
export function toggled(list: string[], path: string): string[] {
  const order = facts.flatMap((f) => f.paths);
  const next = list.includes(path) ? list.filter((p) => p !== path) : [...list, path];
  return next.sort((a, b) => order.indexOf(a) - order.indexOf(b));
}

/** pretty writes JSON over several lines; other text stays as it is. */
export function pretty(text: string): string {
  try {
    return JSON.stringify(JSON.parse(text), null, 2);
  } catch {
    return text;
  }
}

/** folded writes the outermost keys of a JSON object, each with the beginning of its value. */
export function folded(text: string): string {
  try {
    const lines = Object.entries(JSON.parse(text) as Record<string, unknown>).map(([key, value]) => {
      const whole = JSON.stringify(value);
      return ` "${key}": ${whole.length > 14 ? `${whole.slice(0, 10)}…` : whole}`;
    });
    return `{${lines.join(",\n").trimStart()}}`;
  } catch {
    return text;
  }
}

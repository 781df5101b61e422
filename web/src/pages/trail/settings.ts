import type { ProxySettings, Trail } from "../../api/client";

export interface Variant {
  name: string;
  settings: ProxySettings;
  current: boolean;
}

const list = (trusted: string[]) =>
  trusted.length > 2 ? `${trusted.slice(0, 2).join(", ")}, …` : trusted.join(", ");

/** variants are the settings to compare: none, those in use, and counting one hop more than are trusted. */
export function variants(inUse: ProxySettings, trail: Trail | undefined): Variant[] {
  const trusted = trail?.hops.filter((h) => h.verdict === "trusted").length ?? 0;
  const found: Variant[] = [
    {
      name: "Trust no proxy",
      settings: { ...inUse, trusted: [], hops: 0 },
      current: inUse.trusted.length === 0,
    },
  ];
  if (inUse.trusted.length > 0) {
    const by = inUse.hops > 0 ? `${inUse.hops} hops` : list(inUse.trusted);
    found.push({ name: `Trust ${by}`, settings: inUse, current: true });
    const isList = inUse.header === "X-Forwarded-For" || inUse.header === "Forwarded";
    const hops = trusted + 1;
    if (isList && hops !== inUse.hops)
      found.push({ name: `Trust ${hops} hops`, settings: { ...inUse, hops }, current: false });
  }
  return found;
}

/** describe says in words what a setting makes of a request. */
export function describe(trail: Trail, settings: ProxySettings): string {
  if (!trail.visitor) return trail.reason;
  if (settings.trusted.length === 0) return "Every visitor would look like the other end of the connection.";
  if (trail.own_network) return "The visitor is a proxy of your own.";
  if (settings.hops > 0) return `The entry at place ${settings.hops} from the right, whoever wrote it.`;
  return "The nearest address that your proxies did not write.";
}

/** configLines writes settings as they stand in the configuration. */
export function configLines(s: ProxySettings): string[] {
  return [
    "proxies:",
    `  header: ${s.header}`,
    ...(s.hops > 0 ? [`  hops: ${s.hops}`] : []),
    ...(s.trusted.length > 0 ? ["  trusted:", ...s.trusted.map((t) => `    - "${t}"`)] : ["  trusted: []"]),
  ];
}

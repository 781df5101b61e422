import { describe as suite, expect, it } from "vitest";
import type { ProxySettings, Trail } from "../../api/client";
import { configLines, describe, variants } from "./settings";

const inUse: ProxySettings = { trusted: ["203.0.113.0/28"], header: "X-Forwarded-For", hops: 0 };
const trail = (visitor: string | null, own = false) =>
  ({
    visitor,
    own_network: own,
    reason: "Not found: so it is.",
    hops: [{ verdict: "trusted" }, { verdict: "visitor" }],
  }) as Trail;

suite("other settings", () => {
  it("are none, those in use, and a hop more than is trusted", () => {
    expect(variants(inUse, trail("198.18.3.40")).map((v) => [v.name, v.settings.hops, v.current])).toEqual([
      ["Trust no proxy", 0, false],
      ["Trust 203.0.113.0/28", 0, true],
      ["Trust 2 hops", 2, false],
    ]);
    expect(variants({ ...inUse, trusted: [] }, undefined).map((v) => v.current)).toEqual([true]);
    expect(variants({ ...inUse, header: "X-Real-Ip" }, undefined)).toHaveLength(2);
  });

  it("are said in words", () => {
    expect(describe(trail(null), inUse)).toBe("Not found: so it is.");
    expect(describe(trail("1", true), inUse)).toContain("your own");
    expect(describe(trail("1"), { ...inUse, hops: 3 })).toContain("place 3");
  });

  it("are written as the configuration has them", () => {
    expect(configLines({ ...inUse, hops: 2 }).join("\n")).toBe(
      'proxies:\n  header: X-Forwarded-For\n  hops: 2\n  trusted:\n    - "203.0.113.0/28"',
    );
    expect(configLines({ ...inUse, trusted: [] })).toContain("  trusted: []");
  });
});

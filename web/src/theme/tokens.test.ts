import { describe, expect, it } from "vitest";
import { themeOf, variables, type Mode } from "./theme";
import tokens from "./tokens.json";

const rgb = (hex: string) => [1, 3, 5].map((i) => parseInt(hex.slice(i, i + 2), 16) / 255);
const linear = (c: number) => (c <= 0.04045 ? c / 12.92 : ((c + 0.055) / 1.055) ** 2.4);

/** luminance is the relative luminance of WCAG 2. */
function luminance(hex: string): number {
  const [r = 0, g = 0, b = 0] = rgb(hex).map(linear);
  return 0.2126 * r + 0.7152 * g + 0.0722 * b;
}

function contrast(a: string, b: string): number {
  const [high = 0, low = 0] = [luminance(a), luminance(b)].sort((x, y) => y - x);
  return (high + 0.05) / (low + 0.05);
}

const papers = ["page", "surface", "raised", "sunken"] as const;
const grounds = [...papers, "railTop", "railBottom", "primaryBg", "dawnBg"] as const;

describe.each(["light", "dark"] as Mode[])("the tokens of %s", (mode) => {
  const t = tokens[mode];
  it("let text be read", () => {
    for (const ground of grounds)
      for (const ink of ["ink", "ink2", "ink3", "primary", "dawnText"] as const)
        expect(contrast(t[ink], t[ground]), `${ink} on ${ground}`).toBeGreaterThanOrEqual(4.5);
    for (const ground of papers)
      for (const ink of ["ok", "bad"] as const)
        expect(contrast(t[ink], t[ground])).toBeGreaterThanOrEqual(4.5);
    expect(contrast(t.ok, t.okBg)).toBeGreaterThanOrEqual(4.5);
    expect(contrast(t.bad, t.badBg)).toBeGreaterThanOrEqual(4.5);
    for (const ground of [t.primary, t.primaryHover, t.primaryActive])
      expect(contrast(t.onPrimary, ground)).toBeGreaterThanOrEqual(4.5);
  });

  it("let shapes be seen", () => {
    for (const [shape, ground] of [
      ["lineStrong", "surface"],
      ["lineStrong", "page"],
      ["dawnLine", "surface"],
      ["dawnLine", "dawnBg"],
      ["primary", "page"],
      ["ring", "water"],
      ["ring", "land"],
    ] as const)
      expect(contrast(t[shape], t[ground]), `${shape} on ${ground}`).toBeGreaterThanOrEqual(3);
  });

  it("reach the style sheet and Ant Design", () => {
    expect(variables(mode)["--ep-primary"]).toBe(t.primary);
    expect(variables(mode)["--ep-seq1"]).toBe(t.seq[0]);
    expect(themeOf(mode).token?.colorPrimary).toBe(t.primary);
  });
});

import { describe, expect, it } from "vitest";
import { v4, v6 } from "../../testkit/spellings";
import { maskAddress, maskText, shortenV6 } from "./mask";

/** A small generator with a seed, so that a failure comes again. */
function random(seed: number) {
  let state = seed;
  return (n: number) => {
    state = (state * 1664525 + 1013904223) % 2 ** 32;
    return Math.floor((state / 2 ** 32) * n);
  };
}

const places = [
  (a: string) => a,
  (a: string) => `seen ${a} twice`,
  (a: string) => `/visitor/${a}/page`,
  (a: string) => `https://heronlake.example/?from=${a}&x=1`,
  (a: string) => `{"address":"${a}"}`,
  (a: string) => `(${a}), then more.`,
];

describe("maskText", () => {
  it("leaves no address readable, in any spelling and place", { timeout: 60_000 }, () => {
    const next = random(22);
    let tried = 0;
    for (let i = 0; i < 80; i++) {
      const b = [198 + next(2), 18 + next(2), 16 + next(239), 16 + next(239)];
      const g = [0x2001, 0xdb8, ...Array.from({ length: 6 }, () => 0x1000 + next(0xefff))];
      const last = g[7]?.toString(16) ?? "";
      const tail = b.slice(2).join(".");
      for (const spelling of [...v4(b), ...v6(g)])
        for (const place of places) {
          const masked = maskText(place(spelling));
          tried++;
          const digits = spelling.replace(/\D/g, "").slice(-6);
          expect(masked, `${place(spelling)} became ${masked}`).not.toContain(spelling.slice(2));
          expect(masked.includes(tail) || masked.includes(last), `${place(spelling)} became ${masked}`).toBe(
            false,
          );
          if (digits.length === 6) expect(masked, spelling).not.toContain(digits);
        }
    }
    expect(tried).toBe(80 * 48 * places.length);
  });
  it("hides e-mail addresses and visitors' host names", () => {
    expect(maskText("write to anna.o+x@club.heronlake.example now")).toBe("write to •••• now");
    expect(maskText("from cpe123.city.example.net")).toBe("from ••••");
    expect(maskText("mailto:anna%40club.example")).not.toContain("anna");
  });
  it("leaves what is none", () => {
    for (const plain of [
      "Ran at 07:42:08 in 4 ms.",
      "2026-11-14T06:42:08+00:00",
      "2026-11-05-6e76a1b2",
      "0193f2c4-0000-7000-8000-000000000000",
      "Lisbon, PT-11, AS64500, 25 km, 38.72, −9.14",
      "1,229 visits",
      "heronlake.example",
      "https://www.heronlake.example/programme",
      "::",
      "porch_server_abcd",
      "Mozilla/5.0 (X11; Linux x86_64)",
    ])
      expect(maskText(plain)).toBe(plain);
  });
  it("keeps the beginning of plain spellings", () => {
    expect(maskText("198.18.3.40 via 2001:db8::1f")).toBe("198.18.••.•• via 2001:db8:••••");
    expect(maskAddress("3fff:1a0::7")).toBe("3fff:1a0:••••");
    expect(maskAddress("198.18.3.0/24")).toBe("198.18.••.••");
    expect(maskAddress("::1")).toBe(":0:••••");
    expect(maskAddress("whatever")).toBe("••••");
  });
  it("shortens only what is long", () => {
    expect(shortenV6("2001:db8:5e1:40::1f")).toBe("2001:db8::1f");
    expect(shortenV6("2001:db8::1f")).toBe("2001:db8::1f");
    expect(shortenV6("198.18.3.40")).toBe("198.18.3.40");
  });
});

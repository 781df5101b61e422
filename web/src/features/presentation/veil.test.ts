// @vitest-environment jsdom
import { beforeEach, expect, it, vi } from "vitest";
import { hide, keep, show } from "./hidden";
import { codeOf, shown, unveil, unveilURL, veil, veilJSON } from "./veil";
import { v4, v6 } from "../../testkit/spellings";

beforeEach(() => sessionStorage.clear());

it("gives back what stands behind a code, in texts, bodies and addresses of the service", () => {
  let tried = 0;
  for (let i = 0; i < 400; i++) {
    const v4 = `198.18.${i % 256}.${(i * 7) % 256}`;
    const v6 = `2001:db8:${i.toString(16)}::${(i * 31).toString(16)}`;
    for (const address of [v4, v6, `${v4}/32`, `${v6}/64`]) {
      const hidden = veil(address) as string;
      tried++;
      expect(shown(hidden)).not.toContain(address);
      expect(unveil(hidden)).toBe(address);
      expect(unveil(`{"addresses":["${hidden}"]}`)).toBe(`{"addresses":["${address}"]}`);
      const url = unveilURL(
        `http://x.example/v1/addresses/${encodeURIComponent(hidden)}?a=${encodeURIComponent(hidden)}`,
      );
      expect(decodeURIComponent(new URL(url).pathname)).toBe(`/v1/addresses/${address}`);
      expect(new URL(url).searchParams.get("a")).toBe(address);
    }
  }
  expect(tried).toBe(1600);
});

it("hides addresses at every depth, and leaves numbers, times and ids", () => {
  const visit = {
    id: "01a2227d-e428-742c-900f-000000000000",
    time: "2026-11-28T14:18:30Z",
    visits: 3_323_069_696,
    deep: [{ note: "from 198.18.3.40 again" }],
    attributes: { "198.18.3.40": "x", number: 3_323_069_696, small: 12 },
    none: null,
    yes: true,
  };
  const hidden = veil(visit) as typeof visit;
  expect(JSON.stringify(hidden)).not.toMatch(/3\.40/);
  expect([hidden.id, hidden.time, hidden.visits, hidden.none, hidden.yes]).toEqual([
    visit.id,
    visit.time,
    visit.visits,
    null,
    true,
  ]);
  // An owner's own number may be an address.
  expect(hidden.attributes.number).toBe("••••");
  expect(hidden.attributes.small).toBe(12);
});

it("hides every spelling in what is no JSON", () => {
  for (const spelling of [...v4([198, 18, 77, 123]), ...v6([0x2001, 0xdb8, 1, 2, 3, 4, 5, 0xbeef])])
    expect(veilJSON(`seen ${spelling}, twice`)).not.toMatch(/77\D{0,3}123|beef/i);
});

it("keeps what stands in the page's address for a reload, and nothing else", () => {
  const [kept, lost] = [hide("198.18.3.40"), hide("198.18.3.41")];
  keep(kept);
  expect(Object.values({ ...sessionStorage })).toEqual(["198.18.3.40"]);
  expect(show(kept)).toBe("198.18.3.40");
  expect(show(lost)).toBe("198.18.3.41");
  expect(show("~unknown")).toBe("");
  expect(show("plain")).toBe("plain");
  expect(hide(kept)).toBe(kept);
});

it("forgets with its tab what does not stand in the page's address", async () => {
  const [kept, lost] = [hide("198.18.3.40"), hide("198.18.3.41")];
  keep(kept);
  vi.resetModules();
  const after = await import("./hidden");
  expect(after.show(kept)).toBe("198.18.3.40");
  expect(after.show(lost)).toBe("");
});

it("has a code only where something was hidden", () => {
  expect(codeOf("198.18.3.40")).toBe("");
  expect(codeOf("a ~tilde")).toBe("");
  expect(codeOf(veil("198.18.3.40") as string)).toMatch(/^~[0-9a-z]+$/);
  expect(shown("a ~tilde")).toBe("a ~tilde");
});

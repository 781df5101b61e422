import { screen, waitFor, within } from "@testing-library/react";
import { expect, it, vi } from "vitest";
import type { Visit } from "../../api/client";
import { recordedBody } from "../../testkit/answers";
import { on, open } from "../../testkit/console";

interface List {
  visits: Visit[];
  count: { matching: number; all: number; more: boolean };
  next: string | null;
}
const list = recordedBody("GET /v1/visits?limit=50&site=heronlake.example") as List;
const first = list.visits[0] as Visit;

const shown = async (visits: Visit[], width = 1280, path = "/visits") => {
  const page = open(path, { width, rules: [on("GET", "/v1/visits", { body: { ...list, visits } })] });
  await page.settled();
  const rows = () => [...page.root.querySelectorAll<HTMLElement>(".visits-table tbody tr")];
  return { ...page, rows };
};

/** changed is the first visit with other facts. */
function changed(id: string, change: (visit: Visit) => void): Visit {
  const visit = structuredClone(first);
  visit.id = id;
  change(visit);
  return visit;
}

it.each([
  [1280, "", ["Time", "Address", "Location", "Level", "Within", "Path", "Marks"]],
  [1280, first.id, ["Time", "Address, page", "Location", "Within", "Marks"]],
  [1024, "", ["Time", "Address, page", "Location", "Within", "Marks"]],
  [768, "", ["Time", "Address, page", "Location", "Within"]],
])("has the columns that fit, at %i pixels with “%s” open", async (width, visit, columns) => {
  const page = await shown(list.visits, width, visit ? `/visits?visit=${visit}` : "/visits");
  const heads = [...page.root.querySelectorAll(".visits-table th")].map((th) => th.textContent);
  expect(heads).toEqual(columns);
  expect(page.rows()).toHaveLength(list.visits.length);
  // At every width each visit has its address, its page and its marks somewhere.
  const text = page.root.querySelector(".visits-table")?.textContent ?? "";
  for (const v of list.visits) {
    expect(text).toContain(v.path);
    for (const mark of v.marks) expect(text).toContain(mark);
  }
});

it("is walked by the arrows, and opened by Enter", async () => {
  const page = await shown(list.visits);
  page.rows()[0]?.focus();
  await page.user.keyboard("{ArrowDown}{ArrowDown}{ArrowUp}");
  expect(document.activeElement).toBe(page.rows()[1]);
  await page.user.keyboard("{Enter}");
  expect(location.search).toBe(`?visit=${list.visits[1]?.id}`);
  expect(page.rows()[1]?.getAttribute("aria-selected")).toBe("true");
});

it("opens the card where the address is chosen, and no visit", async () => {
  const page = await shown(list.visits);
  const link = within(page.rows()[0] as HTMLElement).getByRole("link");
  await page.user.click(link);
  expect([location.pathname, new URLSearchParams(location.search).get("address")]).toEqual([
    "/lookup",
    first.card.address.text,
  ]);
});

it.each<[string, (v: Visit) => void, string[]]>([
  [
    "skipped",
    (v) => {
      v.card.address.skipped = true;
      v.card.address.kind = "private";
      v.card.location.level = "none";
    },
    ["Skipped, never looked up", "private · skipped"],
  ],
  ["unknown", (v) => (v.card.location.level = "none"), ["Location unknown, no source knows it"]],
  [
    "not found",
    (v) => {
      v.card.address.kind = null;
      v.card.address.text = null;
      v.card.location.level = "none";
    },
    ["Location unknown, no visitor", "no visitor found", "not found"],
  ],
  ["not kept", (v) => (v.card.address.text = null), ["not kept"]],
  [
    "a placeholder",
    (v) => {
      v.card.address.text = null;
      v.card.address.placeholder = "the office";
    },
    ["the office"],
  ],
  [
    "a country alone",
    (v) => {
      v.card.location.level = "country";
      v.card.location.names.country = "Portugal";
    },
    ["Portugal", "no region said"],
  ],
  [
    "marked and labelled",
    (v) => {
      v.marks = ["bot"];
      v.card.labels = ["office"];
    },
    ["bot", "office"],
  ],
  [
    "behind a list that nobody verified",
    (v) => {
      v.trail.omitted = 3;
      v.trail.hops = v.trail.hops.filter((h) => h.verdict !== "unverified");
    },
    ["3 unverified"],
  ],
])("says in words that a visit is %s", async (_, change, words) => {
  const page = await shown([changed("odd", change)]);
  const row = page.rows()[0]?.textContent ?? "";
  for (const some of words) expect(row).toContain(some);
});

it("has every filter behind one button, and puts what is chosen into the page's address", async () => {
  const page = await shown(list.visits);
  await page.user.click(screen.getByRole("button", { name: "Filter" }));
  const town = await screen.findByLabelText("Town");
  await page.write(town, " Lisbon {Enter}");
  await waitFor(() => expect(location.search).toBe("?city=Lisbon"));
  await page.user.click(screen.getByRole("button", { name: "Filter" }));
  await page.user.click(await screen.findByLabelText("level"));
  await page.user.click(await screen.findByTitle("country"));
  await waitFor(() => expect(new URLSearchParams(location.search).get("level")).toBe("country"));
  expect(screen.getByRole("button", { name: "Remove the filter town Lisbon" })).toBeTruthy();
});

it.each(["CSV, for a spreadsheet", "NDJSON", "GeoJSON", "Parquet"])(
  "exports as %s what its filters leave",
  async (format) => {
    const page = await shown(list.visits, 1280, "/visits?country_code=pt&skipped=false");
    const gone = vi.fn<(to: string) => void>();
    const real = window.location;
    vi.stubGlobal("location", { ...real, href: real.href, assign: gone });
    await page.user.click(screen.getByRole("button", { name: /^Export/ }));
    await page.user.click(await screen.findByRole("menuitem", { name: format }));
    const to = new URL(gone.mock.calls[0]?.[0] ?? "", "http://x.example");
    expect(to.pathname).toBe("/v1/visits/export");
    expect(Object.fromEntries(to.searchParams)).toEqual({
      format: format.split(",")[0]?.toLowerCase(),
      country_code: "PT",
      skipped: "false",
      site: "heronlake.example",
    });
  },
);

it("lists visits on a phone, each opened by a touch or Enter", async () => {
  const page = await shown(list.visits, 390);
  const items = page.root.querySelectorAll<HTMLElement>(".phone-list [role=button]");
  expect(items).toHaveLength(list.visits.length);
  items[1]?.focus();
  await page.user.keyboard("{Enter}");
  expect(location.search).toBe(`?visit=${list.visits[1]?.id}`);
});

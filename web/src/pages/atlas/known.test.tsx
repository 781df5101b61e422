import { screen, within } from "@testing-library/react";
import { expect, it } from "vitest";
import type { AtlasEdition } from "../../api/client";
import type { GatheredFeed } from "../../api/atlas";
import { recordedBody } from "../../testkit/answers";
import { dialog, on, open, problem } from "../../testkit/console";

const atlas = recordedBody("GET /v1/atlas") as AtlasEdition;

const feed = (url: string, more: Partial<GatheredFeed> = {}): GatheredFeed => ({
  url,
  state: "used",
  named_by: 1,
  named: [{ range: "198.18.0.0/19", source: "Lake", network: "HARBOUR-NET", by_remark: false }],
  entries: 5,
  outside: 0,
  elsewhere: 0,
  rejected: 0,
  notes: [],
  signature: "none",
  failed: "",
  failures: 0,
  tried: "2026-11-27T10:00:00Z",
  good: "2026-11-27T10:00:00Z",
  retry: "2026-12-04T10:00:00Z",
  ...more,
});

const shown = async (path: string, ...rules: ReturnType<typeof on>[]) => {
  const page = open(path, { rules });
  await page.settled();
  return page;
};

it("says how well visits are known, by country, operator and disagreement", async () => {
  const page = await shown("/atlas");
  expect(page.text()).toMatch(/\d+ % known to a town, \d+ % by registration only, (< )?\d+ % not at all/);
  expect(
    within(screen.getByRole("region", { name: "Your visits by country" })).getAllByRole("row").length,
  ).toBeGreaterThan(5);
  await page.user.click(screen.getByText("Operators"));
  const operators = screen.getByRole("region", { name: "Your visits by operator" });
  const first = within(operators).getAllByRole("button", { name: "What to write" })[0];
  expect(first).toBeDefined();
  if (first) await page.user.click(first);
  expect((await dialog("To ")).textContent).toContain("publish a geofeed (RFC 8805)");
  await page.user.click(screen.getByRole("button", { name: "Close" }));
  await page.user.click(screen.getByText("Disagreements"));
  expect(screen.getByRole("region", { name: "Where sources disagree" }).textContent).toContain(
    "Harbour Net geofeed",
  );
});

it("does not say that nothing is known where nothing could be looked at", async () => {
  const none = {
    ...(recordedBody("GET /v1/atlas/visits?edition=2026-11-05-aff255cb") as object),
    visits: 0,
    without_address: 7,
    skipped: 2,
  };
  const page = await shown("/atlas", on("GET", "/v1/atlas/visits", { body: none }));
  expect(page.text()).toContain("No visit has an address to look at (7 without an address, 2 skipped).");
  expect(page.text()).not.toContain("by registration only");
  page.close();
  const away = await shown("/atlas", on("GET", "/v1/atlas/visits", problem(503, "The database is away.")));
  expect(away.text()).toContain("The coverage of your visits could not be loaded.");
});

it("lists gathered geofeeds with what fails and what does not count", async () => {
  const first = feed("https://harbour.example/feed.csv", {
    outside: 2,
    notes: [{ line: 7, text: "198.19.0.0/24,PT,,,", reason: "no range that names this feed holds it" }],
  });
  const pages = on("GET", "/v1/atlas/feeds", (asked) => ({
    body: asked.query.get("cursor")
      ? {
          feeds: [
            feed("https://reed.example/gone.csv", { state: "failing", failed: "it answers 404 Not Found" }),
          ],
          counts: {},
          entries: 10,
          next: null,
        }
      : { feeds: [first], counts: { used: 1, failing: 1 }, entries: 10, next: first.url },
  }));
  const page = await shown("/atlas", pages);
  expect(page.text()).toContain("2 named by networks, with 10 entries that count");
  await page.user.click(screen.getByRole("button", { name: /^2 entries of .* that do not count$/ }));
  expect((await dialog("What of this feed does not count")).textContent).toContain(
    "no range that names this feed holds it",
  );
  await page.user.click(screen.getByRole("button", { name: "Close" }));
  await page.user.click(screen.getByRole("button", { name: "Show more" }));
  await page.says("it answers 404 Not Found");
  expect(page.text()).toContain("fails; its last content is used");
});

it.each(["/atlas", "/lookup"])(
  "%s leads to open data where there is no range data yet, and only there",
  async (path) => {
    const page = await shown(path, on("GET", "/v1/atlas", { body: { ...atlas, sources: [] } }));
    expect(page.text()).toContain("There is no range data yet, so no address is located.");
    expect(page.text()).toContain("eastporch atlas starter --write --config eastporch.yaml");
    page.close();
    const full = await shown(path);
    expect(full.text()).not.toContain("There is no range data yet");
  },
);

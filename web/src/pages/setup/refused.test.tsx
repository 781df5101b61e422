import { screen, within } from "@testing-library/react";
import { expect, it } from "vitest";
import type { RefusedKind } from "../../api/client";
import { on, open, problem } from "../../testkit/console";
import { barHeight, isAside } from "./refused";

const one = (
  kind: RefusedKind["kind"],
  detail: string,
  lastHour: number,
  more: Partial<RefusedKind> = {},
) => ({
  kind,
  title: `About ${kind}`,
  site: "heronlake.example",
  detail,
  first: "2026-12-01T06:58:00Z",
  is_new: lastHour > 100,
  hour: [...Array<number>(11).fill(0), lastHour],
  day: [...Array<number>(23).fill(0), lastHour],
  last_hour: lastHour,
  last_day: lastHour,
  last_week: lastHour,
  example: {
    time: "2026-12-01T07:41:52Z",
    method: "POST",
    route: "/v1/visits",
    host: "in.heronlake.example",
    origin: "https://shop.heronlake.example",
    key: "porch_page_7qd2",
    status: 403,
  },
  text: `What ${kind} means.`,
  question: "If it is yours",
  lines: [`eastporch keys create ${kind}`],
  ...more,
});

const answer = (refused: RefusedKind[]) => ({
  body: {
    from: "2026-11-24T08:00:00Z",
    to: "2026-12-01T08:00:00Z",
    last_hour: refused.reduce((sum, r) => sum + r.last_hour, 0),
    refused,
    held: { origins: 2, keys: 3, hosts: 1, visitor_per_second: 20 },
  },
});

const shown = async (refused: RefusedKind[]) => {
  const page = open("/setup", { rules: [on("GET", "/v1/refused-requests", answer(refused))] });
  await page.settled();
  return { page, panel: await screen.findByRole("region", { name: "Requests that were refused" }) };
};

const rows = (panel: HTMLElement) =>
  within(panel)
    .getAllByRole("button", { name: /^About/ })
    .map((b) => `${b.textContent}${b.getAttribute("aria-pressed") === "true" ? " *" : ""}`);

it("shows each reason, and of the chosen one the last request and the line that mends it", async () => {
  const { page, panel } = await shown([
    one("origin", "https://shop.heronlake.example", 186),
    one("key", "porch_M2kv", 31),
  ]);
  expect(panel.textContent).toContain("217 in the last hour");
  expect(rows(panel)).toEqual(["About origin *", "About key"]);
  expect(panel.textContent).toContain("What origin means.");
  expect(panel.textContent).toContain("403 origin");
  await page.user.click(within(panel).getByRole("button", { name: "About key" }));
  expect(rows(panel)).toEqual(["About origin", "About key *"]);
  expect(panel.textContent).toContain("eastporch keys create key");
  await page.user.keyboard("{ArrowUp}");
  expect(rows(panel)).toEqual(["About origin *", "About key"]);
  expect(document.activeElement?.textContent).toBe("About origin");
  await page.user.keyboard("{ArrowUp}");
  expect(rows(panel)).toEqual(["About origin *", "About key"]);
  await page.user.click(within(panel).getByRole("button", { name: "Copy the line" }));
  expect(await navigator.clipboard.readText()).toBe("eastporch keys create origin");
});

it("puts a row away until it doubles", async () => {
  const { page, panel } = await shown([
    one("origin", "https://a.example", 40),
    one("host", "www.a.example", 12),
  ]);
  await page.user.click(within(panel).getByRole("button", { name: "Not mine" }));
  expect(rows(panel)).toEqual(["About host *"]);
  expect(panel.textContent).toContain("One is put away.");
  await page.user.click(within(panel).getByRole("button", { name: "Not mine" }));
  expect(panel.textContent).toContain("All of it is put away.");
  expect([
    isAside("origin heronlake.example https://a.example", 79),
    isAside("origin heronlake.example https://a.example", 80),
  ]).toEqual([true, false]);
});

it("says that none was refused, and what requests are held against", async () => {
  const { panel } = await shown([]);
  expect(panel.textContent).toContain("None in the last 7 days.");
  expect(panel.textContent).toContain("2 origins are allowed");
  expect(panel.textContent).toContain("20 a second of one address");
});

it("says where they could not be loaded", async () => {
  open("/setup", { rules: [on("GET", "/v1/refused-requests", problem(503, "The database is away"))] });
  expect((await screen.findByText("The refused requests could not be loaded.")).textContent).not.toBe("");
});

it("draws few beside many", () => {
  expect([0, 1, 25, 100].map((n) => barHeight(n, 100))).toEqual([0, 2, 10, 20]);
  expect(barHeight(1, 1_000_000)).toBe(2);
});

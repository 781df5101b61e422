import { screen, waitFor, within } from "@testing-library/react";
import { expect, it } from "vitest";
import type { Report } from "../../api/client";
import { recordedBody } from "../../testkit/answers";
import { on, open } from "../../testkit/console";
import { placeKey } from "./cluster";
import { shadeOf } from "./land";
import { alpha2 } from "./numeric";
import { kmToDegrees, scaleBar } from "./world";

const places = recordedBody("GET /v1/reports/places?limit=50000&site=heronlake.example") as Report;
const row = places.rows.find((r) => r.level === "city") as Report["rows"][number];

/** town is a place of the report, somewhere. */
const town = (city: string, latitude: number, longitude: number, visits: number, level = "city") => ({
  ...row,
  key: city,
  level,
  city: level === "city" ? city : null,
  names: { ...row.names, city: level === "city" ? city : null, region: null, country: "Testland" },
  latitude,
  longitude,
  radius_km: level === "city" ? 10 : 900,
  visits,
});

const shown = async (...rows: unknown[]) => {
  const body = { ...places, rows, total: 100 };
  const page = open("/map", { rules: [on("GET", "/v1/reports/places", { body })] });
  await page.settled();
  const map = screen.getByRole("group", { name: /^Map of visits/ });
  return { ...page, map, circles: () => within(map).queryAllByRole("button") };
};

/** scaleOf is how far the land is zoomed in. */
const scaleOf = (map: Element) =>
  Number(/scale\(([\d.]+)\)/.exec(map.querySelector("g")?.getAttribute("transform") ?? "")?.[1] ?? 1);

it("has a circle for each place, which Enter chooses, and its row with it", async () => {
  const page = await shown(town("Northhaven", 60, 10, 9), town("Southport", -30, 140, 4));
  expect(page.circles().map((c) => c.getAttribute("aria-label"))).toEqual([
    "Northhaven, 9 visits",
    "Southport, 4 visits",
  ]);
  page.circles()[0]?.focus();
  await page.user.keyboard("{Enter}");
  expect(page.circles()[0]?.getAttribute("aria-pressed")).toBe("true");
  expect(page.root.querySelector("tr.chosen")?.textContent).toContain("Northhaven");
  await page.user.keyboard("{Escape}");
  expect(page.root.querySelector("tr.chosen")).toBe(null);
});

it("joins places that would overlap, and zooms in where they are chosen", async () => {
  const page = await shown(town("Northhaven", 60, 10, 9), town("Eastby", 60.001, 10.001, 5));
  const [both] = page.circles();
  expect(both?.getAttribute("aria-label")).toBe("Around Northhaven: 2 places, 14 visits; Enter zooms in");
  const before = scaleOf(page.map);
  both?.focus();
  await page.user.keyboard(" ");
  expect(scaleOf(page.map)).toBeGreaterThan(before);
});

it("zooms by its keys and buttons, and shows all again", async () => {
  const page = await shown(town("Northhaven", 60, 10, 9), town("Southport", -30, 140, 4));
  const first = scaleOf(page.map);
  page.map.focus();
  await page.user.keyboard("++");
  expect(scaleOf(page.map)).toBeCloseTo(first * 2.25, 5);
  await page.user.keyboard("-");
  await page.user.click(screen.getByRole("button", { name: "Zoom out" }));
  expect(scaleOf(page.map)).toBeLessThan(first * 1.5);
  await page.user.click(screen.getByRole("button", { name: "Zoom in" }));
  await page.user.click(screen.getByRole("button", { name: "Show all visits" }));
  await waitFor(() => expect(page.circles()).toHaveLength(2));
});

it("pans by the arrows", async () => {
  const page = await shown(town("Northhaven", 60, 10, 9), town("Southport", -30, 140, 4));
  const x = () => Number(page.circles()[0]?.querySelector("circle")?.getAttribute("cx"));
  page.map.focus();
  await page.user.keyboard("+");
  const before = x();
  await page.user.keyboard("{ArrowLeft}");
  expect(x()).toBeGreaterThan(before);
  await page.user.keyboard("{ArrowRight}{ArrowRight}");
  expect(x()).toBeLessThan(before);
});

it("says how many visits lie outside the view", async () => {
  const page = await shown(town("Northhaven", 60, 10, 9), town("Southport", -30, 140, 4));
  page.map.focus();
  await page.user.keyboard("++++++++");
  await waitFor(() => expect(page.circles().length).toBeLessThan(2));
  expect(page.text()).toMatch(/\d+ lie outside this view/);
});

it("draws country level as a ring of its own, and says so in its label", async () => {
  const page = await shown(town("Northhaven", 60, 10, 9), town("", 60, 10, 7, "country"));
  expect(page.circles()).toHaveLength(2);
  expect(page.map.querySelectorAll("path.ring.wide")).toHaveLength(1);
  expect(page.map.textContent).toContain("country level 7");
});

it("shades countries instead of circles, on the same land", async () => {
  const page = await shown(town("Lisbon", 38.7, -9.1, 9));
  await page.user.click(screen.getByText("Share by country"));
  await waitFor(() => expect(page.map.querySelectorAll("path.share").length).toBeGreaterThan(3));
  expect(page.circles()).toEqual([]);
  const report = recordedBody("GET /v1/reports/countries?site=heronlake.example") as Report;
  const known = report.rows.filter((r) => r.country_code && Object.values(alpha2).includes(r.country_code));
  expect(page.map.querySelectorAll("path.share").length).toBeLessThanOrEqual(known.length);
});

it("gives five shades, each for twice the share of the one before", () => {
  expect([1, 0.51, 0.5, 0.25, 0.125, 0.0625, 0.0001].map(shadeOf)).toEqual([5, 4, 4, 3, 2, 1, 1]);
});

it("gives a scale bar of a round length that fits", () => {
  for (let exponent = -4; exponent < 7; exponent += 0.25) {
    const pixelsPerKm = 2 ** exponent / 50;
    const bar = scaleBar(pixelsPerKm, 90);
    expect(bar.pixels).toBeCloseTo(bar.km * pixelsPerKm);
    if (bar.km > 1) expect(bar.pixels).toBeLessThanOrEqual(90);
    if (bar.km > 1 && bar.km < 5000) expect(bar.pixels).toBeGreaterThan(90 / 2.6);
  }
});

it("knows a degree of arc by the earth's mean radius, which is 6,371 km (IUGG)", () => {
  expect(kmToDegrees((6371 * Math.PI) / 2)).toBeCloseTo(90, 2);
});

it("has one code for each number of ISO 3166-1", () => {
  const codes = Object.values(alpha2);
  expect(new Set(codes).size).toBe(codes.length);
  for (const [number, code] of Object.entries(alpha2)) {
    expect(number).toMatch(/^\d{3}$/);
    expect(new Intl.DisplayNames(["en"], { type: "region" }).of(code)).not.toBe(code);
  }
});

it("tells places of one name apart", () => {
  const at = (level: "city" | "country", region: string | null) =>
    placeKey({ ...town("Springfield", 1, 1, 1), level, region_code: region, country_code: "US" } as never);
  expect(new Set([at("city", "US-IL"), at("city", "US-MA"), at("country", null)]).size).toBe(3);
});

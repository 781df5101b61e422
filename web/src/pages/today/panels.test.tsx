import { act, screen, waitFor, within } from "@testing-library/react";
import { expect, it } from "vitest";
import type { Report, Visit } from "../../api/client";
import { recordedBody } from "../../testkit/answers";
import { on, open } from "../../testkit/console";
import { oppositeOfSun } from "./sun";
import { nameOf } from "../../features/map/SmallWorld";
import { visitsOf } from "./LastHourMap";

const list = recordedBody("GET /v1/visits?limit=50&site=heronlake.example") as { visits: Visit[] };
const first = list.visits[0] as Visit;
const today = recordedBody("GET /v1/reports/timeline?from=…&site=heronlake.example&unit=hour") as Report;
const places = recordedBody("GET /v1/reports/places?from=…&limit=50000&site=heronlake.example") as Report;

const shown = async () => {
  const page = open("/today");
  await page.settled();
  const live = screen.getByRole("region", { name: "Live visits" });
  const come = (id: string) => act(() => page.stream()?.send({ ...first, id, path: `/${id}` }));
  const ids = () =>
    within(live)
      .getAllByRole<HTMLAnchorElement>("link", { name: "Open this visit" })
      .map((a) => new URL(a.href).searchParams.get("visit"));
  return { ...page, live, come, ids };
};

it("holds the live visits still while they are paused, and forgets none that came", async () => {
  const page = await shown();
  const before = page.ids();
  await page.user.click(screen.getByRole("button", { name: "Pause" }));
  page.come("a");
  page.come("b");
  expect(page.ids()).toEqual(before);
  await page.user.click(await screen.findByRole("button", { name: "Resume: there are new visits" }));
  expect(page.ids()).toEqual(["b", "a", ...before.slice(0, 4)]);
});

it("says since when it waits for the service, until it answers again", async () => {
  const page = await shown();
  act(() => page.stream()?.onerror?.());
  await page.says(/Waiting for the service, since \d\d:\d\d/);
  act(() => page.stream()?.onopen?.());
  await waitFor(() => expect(page.text()).not.toContain("Waiting for the service"));
});

it("lists no visit twice that the list has and the stream sends again", async () => {
  const page = await shown();
  page.come(first.id);
  await waitFor(() => expect(page.ids()[0]).toBe(first.id));
  expect(page.ids().filter((id) => id === first.id)).toHaveLength(1);
});

it("says the hours in words, and draws those that have been", async () => {
  const rows = Array.from({ length: 24 }, (_, i) => ({
    ...today.rows[0],
    from: `hour ${i}`,
    visits: i < 16 ? i : 0,
  }));
  const page = open("/today", {
    rules: [
      on("GET", "/v1/reports/timeline", ({ query }) =>
        query.get("unit") === "hour" && !query.has("to") ? { body: { ...today, rows } } : undefined,
      ),
    ],
  });
  await page.settled();
  const chart = screen.getByRole("img", { name: /^Visits by hour/ });
  expect(chart.getAttribute("aria-label")).toContain("120 so far today, 15 of them in this hour");
  const bars = [...chart.querySelectorAll("rect")]; // it is 15:18 in Oslo
  expect(bars.map((b) => b.classList.contains("running"))).toEqual([...Array<boolean>(15).fill(false), true]);
  const heights = bars.map((b) => Number(b.getAttribute("height")));
  expect(heights).toEqual([...heights].sort((x, y) => x - y));
});

it("links every circle of the last hour to its visits", async () => {
  await shown();
  const map = screen.getByRole("group", { name: "Visits of the last hour" });
  const circles = within(map).getAllByRole<HTMLAnchorElement>("link");
  const visits = circles.map((a) => Number(/(\d+) visits/.exec(a.getAttribute("aria-label") ?? "")?.[1]));
  const known = places.rows.filter((r) => r.latitude !== null);
  expect(visits.reduce((n, v) => n + v, 0)).toBe(known.reduce((n, r) => n + r.visits, 0));
  for (const a of circles)
    expect(a.getAttribute("href")).toMatch(/^\/visits\?since=hour&country_code=[A-Z]{2}/);
});

it("asks by town where there is one, by level where not", () => {
  const place = {
    level: "city",
    country_code: "BR",
    region_code: null,
    city: "São Paulo",
    names: { country: "Brazil", region: null, city: "São Paulo" },
    latitude: -23.5,
    longitude: -46.6,
    radius_km: 20,
    visits: 3,
  } as const;
  expect(visitsOf(place)).toBe("/visits?since=hour&country_code=BR&city=S%C3%A3o+Paulo");
  expect(visitsOf({ ...place, level: "country", city: null })).toBe(
    "/visits?since=hour&country_code=BR&level=country",
  );
  const group = { key: "", places: [place], x: 0, y: 0, r: 1, visits: 3, wide: false };
  expect(nameOf(group)).toBe("São Paulo");
  expect(nameOf({ ...group, places: [place, place] })).toBe("Around São Paulo");
});

it("has the night where the sun is down, all through a year", () => {
  const radians = Math.PI / 180;
  // The sun by the equation of time and its declination after Spencer (1971), which shares nothing with the code.
  const model = (at: Date): [number, number] => {
    const start = Date.UTC(at.getUTCFullYear(), 0, 1);
    const g = (2 * Math.PI * ((at.getTime() - start) / 86_400_000 - 0.5)) / 365;
    const declination =
      0.006918 -
      0.399912 * Math.cos(g) +
      0.070257 * Math.sin(g) -
      0.006758 * Math.cos(2 * g) +
      0.000907 * Math.sin(2 * g) -
      0.002697 * Math.cos(3 * g) +
      0.00148 * Math.sin(3 * g);
    const minutes =
      229.18 *
      (0.000075 +
        0.001868 * Math.cos(g) -
        0.032077 * Math.sin(g) -
        0.014615 * Math.cos(2 * g) -
        0.040849 * Math.sin(2 * g));
    const utc = at.getUTCHours() * 60 + at.getUTCMinutes();
    return [-(utc + minutes) / 4, -declination / radians]; // opposite of 180 − …
  };
  for (let hour = 0; hour < 365 * 24; hour += 37) {
    const at = new Date(Date.UTC(2026, 0, 1, hour));
    const [[x, y], [mx, my]] = [oppositeOfSun(at), model(at)];
    const apart = ((((x - mx) % 360) + 540) % 360) - 180;
    expect(Math.abs(apart), at.toISOString()).toBeLessThan(1);
    expect(Math.abs(y - my), at.toISOString()).toBeLessThan(1);
  }
});

it("says that nothing came in the last hour, rather than an empty map", async () => {
  const page = open("/today", {
    rules: [on("GET", "/v1/reports/places", { body: { ...places, rows: [], total: 0 } })],
  });
  await page.says("No visits in the last hour.");
  expect(screen.queryByRole("group", { name: "Visits of the last hour" })).toBe(null);
});

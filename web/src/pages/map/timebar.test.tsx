import { fireEvent, screen, waitFor } from "@testing-library/react";
import { expect, it } from "vitest";
import type { Report } from "../../api/client";
import { recordedBody } from "../../testkit/answers";
import { on, open, problem } from "../../testkit/console";
import { barEnd, spanTimes } from "./TimeBar";

const places = recordedBody("GET /v1/reports/places?limit=50000&site=heronlake.example") as Report;
const countries = recordedBody("GET /v1/reports/countries?site=heronlake.example") as Report;

const shown = async () => {
  const page = open("/map", {
    rules: [
      on("GET", "/v1/reports/places", { body: places }),
      on("GET", "/v1/reports/countries", { body: countries }),
    ],
  });
  await page.settled();
  const times = () => {
    const query = page.sent("GET", "/v1/reports/places").at(-1)?.query;
    return [query?.get("from") ?? null, query?.get("to") ?? null];
  };
  return { ...page, times };
};

it("ends with the quarter hour that runs, where the site is", () => {
  const end = barEnd("Europe/Oslo", new Date("2026-11-28T14:18:30Z"));
  expect(end.toISOString()).toBe("2026-11-28T14:30:00.000Z");
  expect(barEnd("Asia/Kathmandu", new Date("2026-11-28T14:30:00Z")).format("HH:mm")).toBe("20:30");
});

it("gives the times of a part; what reaches to the end has none there", () => {
  const end = barEnd("Europe/Oslo", new Date("2026-11-28T14:18:30Z"));
  expect(spanTimes(null, end)).toEqual({});
  expect(spanTimes([0, 4], end)).toEqual({
    from: "2026-11-27T14:30:00.000Z",
    to: "2026-11-27T15:30:00.000Z",
  });
  expect(spanTimes([92, 96], end)).toEqual({ from: "2026-11-28T13:30:00.000Z" });
});

it("keeps its quarters a quarter of an hour long where the clock changes", () => {
  const end = barEnd("Europe/Oslo", new Date("2026-10-25T09:59:00Z")); // an hour longer than a day
  for (let n = 0; n < 95; n++) {
    const { from, to } = spanTimes([n, n + 1], end);
    expect(Date.parse(to ?? "") - Date.parse(from ?? "")).toBe(15 * 60_000);
  }
});

it("asks for the part that is chosen by the keys, in the list and on the map, and for all again", async () => {
  const page = await shown();
  const press = (handle: string, keyCode: number) =>
    fireEvent.keyDown(screen.getByRole("slider", { name: handle }), { keyCode });
  press("Beginning", 39); // right
  press("Beginning", 39);
  await waitFor(() => expect(page.times()).toEqual(["2026-11-27T15:00:00.000Z", null]));
  expect(page.text()).toContain("16:00 – 15:30");
  press("End", 37); // left
  await waitFor(() => expect(page.times()).toEqual(["2026-11-27T15:00:00.000Z", "2026-11-28T14:15:00.000Z"]));
  await page.user.click(screen.getByRole("button", { name: "Show all" }));
  await page.says("All visits");
  expect(screen.queryByRole("button", { name: "Show all" })).toBe(null);
});

it("replays the last day from its beginning, step by step, until it is paused", async () => {
  const page = await shown();
  await page.user.click(screen.getByRole("button", { name: "Replay the last day" }));
  await waitFor(() => expect(page.times()[0]).toBe("2026-11-27T14:30:00.000Z"));
  await waitFor(() => expect(page.times()[0]).toBe("2026-11-27T14:45:00.000Z"));
  expect(page.times()[1]).toBe("2026-11-27T16:45:00.000Z");
  await page.user.click(screen.getByRole("button", { name: "Pause the replay" }));
  expect(screen.getByRole("button", { name: "Replay the last day" })).toBeTruthy();
});

it("has a bar for every quarter of an hour that was counted", async () => {
  const page = await shown();
  const line = recordedBody("GET /v1/reports/timeline?from=…&site=heronlake.example&unit=quarter") as Report;
  await waitFor(() => expect(page.root.querySelectorAll(".timebar rect")).toHaveLength(line.rows.length));
});

it("links each place and country to its visits", async () => {
  const page = await shown();
  const links = [...page.root.querySelectorAll<HTMLAnchorElement>("table.places a")];
  const one = places.rows.find((r) => r.city !== null);
  expect(links.map((a) => new URL(a.href).searchParams.get("city"))).toContain(one?.city);
  await page.user.click(screen.getByText("Share by country"));
  await page.says("By country");
  for (const r of countries.rows) {
    const link = [...page.root.querySelectorAll<HTMLAnchorElement>("table.places a")].find((a) =>
      a.closest("tr")?.textContent.includes(r.name ?? "no country"),
    );
    expect(Object.fromEntries(new URL(link?.href ?? "").searchParams)).toEqual(r.filter);
  }
});

it("says what the report does not count, with the way to it", async () => {
  const page = open("/map", {
    rules: [
      on("GET", "/v1/reports/places", {
        body: {
          ...places,
          left_out: { bot: 1234, test: 0 },
          no_point: { skipped: 3, not_found: 2, unknown: 4 },
        },
      }),
      on("GET", "/v1/reports/countries", problem(503, "Away.")),
    ],
  });
  await page.says("Not counted: 1,234 marked bot.");
  expect(page.text()).not.toContain("marked test");
  expect(page.text()).toContain("9 visits have no point: 3 skipped, 2 not found, 4 unknown to the atlas.");
});

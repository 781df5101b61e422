import { screen, waitFor } from "@testing-library/react";
import { expect, it } from "vitest";
import type { Report } from "../../api/client";
import { recordedBody } from "../../testkit/answers";
import { on, open, problem } from "../../testkit/console";

const places = recordedBody("GET /v1/reports/places?limit=50000&site=heronlake.example") as Report & {
  count: { all: number };
};

it("tells no visits from none that match", async () => {
  const none = { ...places, rows: [], total: 0, count: { ...places.count, all: 0 } };
  const page = open("/map", { rules: [on("GET", "/v1/reports/places", { body: none })] });
  await page.says("No visits yet.");
  page.close();
  const other = open("/map?city=Nowhere", {
    rules: [on("GET", "/v1/reports/places", { body: { ...none, count: { ...places.count, all: 9 } } })],
  });
  await other.says("No visits match these filters.9 visits in all.");
});

it("counts by country what the filters leave", async () => {
  const page = open("/map?level=city");
  page.rule(
    on("GET", "/v1/reports/countries", {
      body: recordedBody("GET /v1/reports/countries?site=heronlake.example"),
    }),
  );
  page.rule(on("GET", "/v1/reports/places", { body: places }));
  page.rule(on("GET", "/v1/reports/timeline", problem(503, "Away.")));
  await page.user.click(await screen.findByText("Share by country"));
  await page.says("Portugal");
  expect(page.sent("GET", "/v1/reports/countries").at(-1)?.query.get("level")).toBe("city");
});

it("closes its table and opens it again, by the key too", async () => {
  const page = open("/map");
  await page.settled();
  expect(screen.getByRole("complementary", { name: "Table of the map" })).toBeTruthy();
  await page.user.keyboard("t");
  await waitFor(() => expect(screen.queryByRole("complementary", { name: "Table of the map" })).toBe(null));
  await page.user.click(screen.getByRole("button", { name: "Table" }));
  expect(screen.getByRole("complementary", { name: "Table of the map" })).toBeTruthy();
});

it("has map and table by turns on a phone, and no bar of time", async () => {
  const page = open("/map", { width: 390 });
  await page.settled();
  expect(screen.queryByRole("region", { name: "Time" })).toBe(null);
  expect(page.sent("GET", "/v1/reports/timeline")).toEqual([]);
  await page.user.click(screen.getByText("Table"));
  expect(page.root.querySelector(".map-table")).not.toBe(null);
});

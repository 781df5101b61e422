import { act, screen, waitFor } from "@testing-library/react";
import { expect, it } from "vitest";
import type { Report, Visit } from "../../api/client";
import { recordedBody } from "../../testkit/answers";
import { on, open, problem } from "../../testkit/console";

const countries = recordedBody("GET /v1/reports/countries?from=…&site=heronlake.example") as Report;
const editions = recordedBody("GET /v1/atlas/editions") as { editions: { state: string }[] };

it("says the figures that the service gave", async () => {
  const page = open("/today");
  await page.settled();
  const today = recordedBody("GET /v1/reports/timeline?from=…&site=heronlake.example&unit=hour") as {
    total: number;
  };
  const found = countries.rows.filter((r) => r.country_code).length;
  expect(page.text()).toContain(`${today.total} visits from ${found} countries since midnight in Oslo`);
});

it("asks from midnight where the site is", async () => {
  const page = open("/today");
  await page.settled();
  const [asked] = page.sent("GET", "/v1/reports/countries");
  expect(asked?.query.get("from")).toBe("2026-11-27T23:00:00.000Z"); // midnight in Oslo
});

it("has the table of what its map shows", async () => {
  const page = open("/today");
  await page.settled();
  await page.user.click(screen.getByText("Table"));
  const table = await screen.findByRole("region", { name: "Places of the last hour" });
  const places = recordedBody("GET /v1/reports/places?from=…&limit=50000&site=heronlake.example") as Report;
  expect(table.querySelectorAll("tbody tr")).toHaveLength(
    places.rows.filter((r) => r.latitude !== null).length,
  );
});

it("says that the database is away, and what happens meanwhile", async () => {
  const state = recordedBody("GET /v1/visits/state") as { intake: object };
  const away = { ...state, quarantine: 3, intake: { ...state.intake, away: true, waiting: 1234 } };
  const page = open("/today", { rules: [on("GET", "/v1/visits/state", { body: away })] });
  await page.says("The database does not answer.");
  expect(page.text()).toContain("wait in the queue: 1,234 so far");
  expect(page.text()).toContain("Could not be stored: 3 visits.");
});

it("calls nothing the same that it could not compare", async () => {
  const page = open("/today", {
    rules: [
      on("GET", "/v1/reports/countries", ({ query }) =>
        query.has("to") ? problem(503, "Away.") : undefined,
      ),
      on("GET", "/v1/atlas/editions", problem(503, "Away.")),
      on("GET", "/v1/visits/state", problem(503, "Away.")),
    ],
  });
  await page.settled();
  expect(page.text()).not.toMatch(/No differences|none waits|kept without limit/);
  expect(page.text()).toContain("Could not be loaded, and so not shown:");
});

it("loads what was missing when told to", async () => {
  let away = true;
  const page = open("/today", {
    rules: [on("GET", "/v1/atlas/editions", () => (away ? problem(503, "Away.") : undefined))],
  });
  await page.says("not shown: the editions");
  away = false;
  await page.user.click(screen.getByRole("button", { name: "Try again" }));
  await waitFor(() => expect(page.text()).not.toContain("not shown"));
  expect(page.text()?.includes("waits")).toBe(editions.editions.some((e) => e.state === "ready"));
});

it("shows a visit as it comes in", async () => {
  const page = open("/today");
  await page.settled();
  const [visit] = (recordedBody("GET /v1/visits?limit=50&site=heronlake.example") as { visits: Visit[] })
    .visits;
  const row = await waitFor(() => {
    const first = page.root.querySelector(".live-visits li");
    expect(first).not.toBe(null);
    return first?.textContent;
  });
  act(() => page.stream()?.send({ ...visit, id: "new", time: "2026-11-28T14:18:29Z" }));
  await waitFor(() => expect(page.root.querySelector(".live-visits li")?.textContent).toContain("14:18:29"));
  expect(page.root.querySelectorAll(".live-visits li")[1]?.textContent).toBe(row);
});

it("listens once, and lists nothing as no visits where they could not be loaded", async () => {
  const page = open("/today", { rules: [on("GET", "/v1/visits", problem(503, "Away."))] });
  await page.settled();
  expect(page.streams()).toBe(1);
  expect(page.text()).not.toContain("No visits yet.");
});

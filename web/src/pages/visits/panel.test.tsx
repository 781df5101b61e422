import { screen, waitFor } from "@testing-library/react";
import { expect, it } from "vitest";
import type { Visit } from "../../api/client";
import { recordedBody } from "../../testkit/answers";
import { on, open, problem } from "../../testkit/console";

const list = recordedBody("GET /v1/visits?limit=50&site=heronlake.example") as { visits: Visit[] };
const visit = list.visits[0] as Visit;

const shown = async (...rules: ReturnType<typeof on>[]) => {
  const page = open(`/visits?visit=${visit.id}`, { rules });
  await page.settled();
  return page;
};

it("has the whole visit: page, trail and evidence", async () => {
  const page = await shown();
  const panel = page.root.querySelector("aside");
  expect(panel?.textContent).toContain(visit.path);
  expect(panel?.textContent).toContain(visit.user_agent ?? "none was sent");
  expect(panel?.textContent).toContain("Trail");
  expect(panel?.textContent).toContain("Evidence");
});

it("erases a visit only after it was asked twice", async () => {
  const page = await shown(
    on("POST", "/v1/visits/erase", { body: { visits: 1, days: 1, quarantine: 0, left: [] } }),
  );
  await page.user.click(screen.getByRole("button", { name: "Erase" }));
  await screen.findByText("Erase this visit?");
  expect(page.sent("POST", "/v1/visits/erase")).toEqual([]);
  await page.user.click(screen.getAllByRole("button", { name: "Erase" }).at(-1) as HTMLElement);
  await waitFor(() =>
    expect(page.sent("POST", "/v1/visits/erase").map((a) => a.body)).toEqual([{ id: visit.id }]),
  );
});

it("keeps a visit that could not be erased, and says why", async () => {
  const page = await shown(on("POST", "/v1/visits/erase", problem(503, "The database is away.")));
  await page.user.click(screen.getByRole("button", { name: "Erase" }));
  await screen.findByText("Erase this visit?");
  await page.user.click(screen.getAllByRole("button", { name: "Erase" }).at(-1) as HTMLElement);
  await screen.findByText(/The database is away/);
  expect(page.root.querySelector("aside")?.textContent).toContain(visit.path);
});

it("opens one that is not in the list, by asking for it", async () => {
  const other = { ...visit, id: "01a2227d-e428-742c-900f-000000000000", path: "/elsewhere" };
  const page = open(`/visits?visit=${other.id}`, {
    rules: [on("GET", `/v1/visits/${other.id}`, { body: other })],
  });
  await page.says("/elsewhere");
});

import { act, screen, waitFor } from "@testing-library/react";
import { expect, it } from "vitest";
import { on, open } from "../../testkit/console";
import { recordedBody } from "../../testkit/answers";
import type { Visit } from "../../api/client";

interface List {
  visits: Visit[];
  count: { matching: number; all: number; more: boolean };
  next: string | null;
}
const list = recordedBody("GET /v1/visits?limit=50&site=heronlake.example") as List;

it("puts the filters of its address into every question, and takes one away", async () => {
  const some = on("GET", "/v1/visits", { body: { ...list, count: { matching: 12, all: 40, more: false } } });
  const page = open("/visits?country_code=PT&level=city", { rules: [some] });
  await page.says("12 visits of 40; 28 visits are excluded by these filters");
  const query = page.sent("GET", "/v1/visits")[0]?.query;
  expect([query?.get("country_code"), query?.get("level")]).toEqual(["PT", "city"]);
  expect(new URL(page.stream()?.url ?? "").searchParams.get("country_code")).toBe("PT");
  await page.user.click(screen.getByRole("button", { name: /^Remove the filter country/i }));
  await waitFor(() => expect(page.sent("GET", "/v1/visits").at(-1)?.query.get("country_code")).toBe(null));
  expect(location.search).toBe("?level=city");
});

it("tells no visits from none that match", async () => {
  const none = { ...list, visits: [], next: null };
  const page = open("/visits", {
    rules: [on("GET", "/v1/visits", { body: { ...none, count: { matching: 0, all: 0, more: false } } })],
  });
  await page.says("No visits yet.");
  page.close();
  const other = open("/visits?city=Nowhere", {
    rules: [on("GET", "/v1/visits", { body: { ...none, count: { matching: 0, all: 7, more: false } } })],
  });
  await other.says("7 visits are excluded by these filters.");
  await other.user.click(screen.getByRole("button", { name: "Clear the filters" }));
  expect(location.search).toBe("");
});

it("counts what comes in, and shows it when asked", async () => {
  const page = open("/visits");
  await page.settled();
  const asked = page.sent("GET", "/v1/visits").length;
  act(() => {
    page.stream()?.send({ ...list.visits[0], id: "new-1" });
    page.stream()?.send({ ...list.visits[0], id: "new-2" });
  });
  await page.user.click(await screen.findByRole("button", { name: "2 new" }));
  await waitFor(() => expect(page.sent("GET", "/v1/visits").length).toBeGreaterThan(asked));
  await waitFor(() => expect(screen.queryByRole("button", { name: "2 new" })).toBe(null));
});

it("opens a visit beside the list, by its address too, and closes it with Escape", async () => {
  const visit = list.visits[0] as Visit;
  const page = open(`/visits?visit=${visit.id}`);
  await page.settled();
  await page.says(visit.path);
  expect(page.root.querySelector(".with-visit")).not.toBe(null);
  await page.user.keyboard("{Escape}");
  await waitFor(() => expect(page.root.querySelector(".with-visit")).toBe(null));
  expect(location.search).toBe("");
});

it("goes on with the older ones where the page ends", async () => {
  const rest = { ...list, next: null, visits: [{ ...list.visits[0], id: "older", path: "/the-oldest" }] };
  const page = open("/visits", {
    rules: [
      on("GET", "/v1/visits", ({ query }) => ({
        body: query.get("cursor") === "c1" ? rest : { ...list, next: "c1" },
      })),
    ],
  });
  await page.user.click(await screen.findByRole("button", { name: "Older visits" }));
  await page.says("/the-oldest");
  expect(screen.queryByRole("button", { name: "Older visits" })).toBe(null);
});

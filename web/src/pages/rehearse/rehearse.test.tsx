import { screen, waitFor } from "@testing-library/react";
import { expect, it } from "vitest";
import type { Rehearsal, RehearsalRequest } from "../../api/client";
import { recordedBody } from "../../testkit/answers";
import { on, open, problem } from "../../testkit/console";
import { askedOf, expectations, write } from "./request";

const body = {
  site: "heronlake.example",
  visitors: [{ from: "PT" }, { from: "JP" }, { from: "unknown" }],
  paths: ["/early/eights"],
};
const recorded = recordedBody(`POST /v1/rehearsals ${JSON.stringify(body)}`) as Rehearsal;
const page3 = "/rehearse?from=PT&from=JP&from=unknown&path=/early/eights";
const answered = on("POST", "/v1/rehearsals", { body: recorded });

it("sets places side by side, in the order of the pipeline", async () => {
  const page = open(page3);
  await page.settled();
  const heads = [...page.root.querySelectorAll(".rehearse-place .serif")].map((h) => h.textContent?.trim());
  expect(heads).toEqual(["Lisbon", "Sapporo", "No location"]);
  const rows = [...page.root.querySelectorAll(".rehearse-table tbody th")].map((h) => h.textContent ?? "");
  expect(rows.map((r) => r.split(/(?=made up|asked|variants)/)[0])).toEqual([
    "Address",
    "Location",
    "Local time",
    "Money",
    "Language",
    "Gate",
    "Content",
  ]);
  expect(page.text()).toContain("Nothing was stored.");
  expect(page.text()).toContain("Japan is not on the allow list of “Early entry”.");
});

it("asks for another place, and keeps it in the page's address", async () => {
  const page = open(page3, { rules: [answered] });
  await page.settled();
  await page.write(screen.getByLabelText("Another place"), "Auckland");
  await page.user.click(screen.getByRole("button", { name: "Add a place" }));
  await waitFor(() => {
    const last = page.sent("POST", "/v1/rehearsals").at(-1)?.body as RehearsalRequest;
    expect(last.visitors.map((v) => v.from)).toEqual(["PT", "JP", "unknown", "Auckland"]);
  });
});

it("says that nobody is there, and why nothing came", async () => {
  const nobody = structuredClone(recorded);
  const one = nobody.results[1];
  if (one)
    Object.assign(one, { card: null, trail: null, problem: "No address of this edition is in Japan." });
  const page = open(page3, { rules: [on("POST", "/v1/rehearsals", { body: nobody })] });
  await page.settled();
  expect(page.text()).toContain("No address of this edition is in Japan.");
  page.close();
  const refused = open(page3, {
    rules: [on("POST", "/v1/rehearsals", problem(422, "visitors.0.from: “UK” is no place."))],
  });
  await refused.settled();
  expect(refused.text()).toContain("visitors.0.from: “UK” is no place.");
});

it("folds what is alike only where it is asked to", async () => {
  const alike = structuredClone(recorded);
  alike.results = alike.results.map(() => structuredClone(recorded.results[0])) as Rehearsal["results"];
  const page = open(page3, { rules: [on("POST", "/v1/rehearsals", { body: alike })] });
  await page.settled();
  expect(page.root.querySelectorAll(".rehearse-table tbody tr")).toHaveLength(7);
  await page.user.click(screen.getByRole("switch", { name: "Only what differs" }));
  expect(page.root.querySelectorAll(".rehearse-table tbody tr")).toHaveLength(0);
  expect(page.text()).toContain("7 rows are alike and folded.");
});

it("writes what it asks into an address that asks the same again, and expectations of what came", () => {
  const params = new URLSearchParams();
  const asked = {
    from: ["PT", "198.18.3.0/24"],
    path: "/a?b=1",
    language: "pt",
    at: "2026-11-28T08:00:00.000Z",
    page: true,
    draft: true,
  };
  write(params, asked);
  expect(askedOf(new URLSearchParams(params.toString()))).toEqual(asked);
  expect(askedOf(new URLSearchParams()).from).toHaveLength(4);
  const file = JSON.parse(expectations("a", recorded.results)) as { expect: { from: string }[] };
  expect(file.expect.map((e) => e.from)).toEqual(["PT", "JP", "unknown"]);
});

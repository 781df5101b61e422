import { screen, waitFor, within } from "@testing-library/react";
import { expect, it } from "vitest";
import type { Card, Trail } from "../../api/client";
import { recordedBody } from "../../testkit/answers";
import { on, open, problem } from "../../testkit/console";

const sample =
  'POST /v1/trails {"peer":"203.0.113.4","text":"X-Forwarded-For: 192.0.2.10, 198.51.100.7, 198.18.7.114, 203.0.113.10\\nX-Real-IP: 192.0.2.10\\nForwarded: for=_hidden;proto=https\\nHost: heronlake.example"}';
const trail = recordedBody(sample) as Trail;
const card = recordedBody("GET /v1/addresses/198.18.7.114") as Card;

/** shown has the page with an answer for the request in the form; those under other settings stay. */
const shown = async (answer: Partial<Trail>, ...rules: ReturnType<typeof on>[]) => {
  const page = open("/trail", {
    rules: [
      on("POST", "/v1/trails", ({ body }) =>
        (body as { settings?: unknown }).settings ? undefined : { body: { ...trail, ...answer } },
      ),
      ...rules,
    ],
  });
  await page.settled();
  return { ...page, answer: page.root.querySelector(".trail-answer") as HTMLElement };
};

it("says why no visitor was found, and offers to look nobody up", async () => {
  const page = await shown({ visitor: null, reason: "Not found: the header has a broken line.", hops: [] });
  expect(page.answer.textContent).toContain("The visitor wasnot found");
  expect(page.answer.textContent).toContain("Not found: the header has a broken line.");
  expect(within(page.answer).queryByRole("link")).toBe(null);
});

it("warns where every hop is one's own proxy", async () => {
  const page = await shown({ own_network: true });
  expect(page.answer.textContent).toContain("Every hop is a proxy of yours.");
});

it("warns of an address of one's own that somebody put into the header", async () => {
  const hops = trail.hops.map((h) => (h.verdict === "unverified" ? { ...h, labels: ["office"] } : h));
  const page = await shown({ hops });
  expect(page.answer.textContent).toContain("Somebody put an address of your “office” in this header.");
  const chips = [...page.answer.querySelectorAll(".chip.label")].map((c) => c.textContent);
  expect(chips).toContain("office, claimed");
  expect(chips).not.toContain("office");
});

it("says where the visitor stood in the header, and what was left out", async () => {
  const at = trail.hops.find((h) => h.verdict === "visitor");
  const page = await shown({ omitted: 30 });
  expect(page.answer.textContent).toContain(`${at?.index} of ${at?.of} in ${at?.source}`);
  expect(page.answer.textContent).toContain("… and 30 more hops.");
});

it("has the place of the visitor beside it, or why there is none", async () => {
  const page = await shown({});
  await page.says(`within ${card.location.radius_km} km`);
  page.close();
  const skipped = { ...card, address: { ...card.address, kind: "private", skipped: true } };
  const none = { ...skipped, location: { ...card.location, level: "none" } };
  const other = await shown({}, on("GET", "/v1/addresses/198.18.7.114", { body: none }));
  await other.says("private · skipped");
  expect(other.answer.textContent).not.toContain("within");
});

it("marks each address of the header by its verdict, in the order of the header", async () => {
  const page = await shown({});
  const marks = [...page.root.querySelectorAll(".asread dd:last-of-type .marked")];
  const listed = trail.hops.filter((h) => h.source !== "peer").reverse();
  expect(marks.map((m) => [m.textContent, m.className])).toEqual(
    listed.map((h) => [h.text, `marked ${h.verdict}`]),
  );
});

it("explains the request of the page itself when asked", async () => {
  const page = await shown({});
  page.rule(
    on("POST", "/v1/trails", ({ body }) =>
      "text" in (body as object)
        ? undefined
        : { body: { ...trail, reason: "Own.", visitor: null, hops: [] } },
    ),
  );
  await page.user.click(screen.getByText("This request"));
  await page.says("The request that this page made to the service.");
  await waitFor(() => expect(page.answer.textContent).toContain("Own."));
  expect(page.sent("POST", "/v1/trails").some((a) => Object.keys(a.body as object).length === 0)).toBe(true);
});

it("compares other settings in a table, where what failed is no verdict", async () => {
  await shown(
    {},
    on("POST", "/v1/trails", ({ body }) =>
      (body as { settings?: { trusted: string[] } }).settings?.trusted.length === 0
        ? problem(503, "Away.")
        : undefined,
    ),
  );
  const table = screen.getByRole("region", { name: "The same request, other settings" });
  const rows = () => [...table.querySelectorAll("tbody tr")].map((tr) => tr.textContent);
  await waitFor(() => expect(rows()[0]).toContain("could not be explained"), { timeout: 30_000 });
  expect(rows()[0]).not.toContain("not found");
  expect(rows().filter((r) => r.includes("in use"))).toHaveLength(1);
});

it("lets nothing be typed, and shows no address of the form, while presenting", async () => {
  const page = await shown({});
  await page.user.click(screen.getByRole("switch"));
  await waitFor(() => expect(screen.queryByLabelText(/^Peer/)).toBe(null));
  expect(page.root.querySelector(".trail-request")?.textContent).not.toMatch(
    /198\.18\.7\.114|203\.0\.113\.4/,
  );
  await page.user.click(screen.getByRole("switch"));
  await screen.findByLabelText(/^Peer/);
});

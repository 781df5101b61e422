import { screen, waitFor, within } from "@testing-library/react";
import { expect, it, vi } from "vitest";
import type { Accuracy, AtlasEdition, Changes, Coverage, Description, Editions } from "../../api/client";
import { recordedBody } from "../../testkit/answers";
import { dialog, on, open, problem } from "../../testkit/console";
import { linesFor } from "./DescribeModal";

const atlas = recordedBody("GET /v1/atlas") as AtlasEdition;
const editions = recordedBody("GET /v1/atlas/editions") as Editions;
const inUse = editions.editions.find((e) => e.state === "in use");
const coverage = recordedBody(`GET /v1/atlas/coverage?edition=${inUse?.name}`) as Coverage;
const accuracy = recordedBody(`GET /v1/atlas/accuracy?edition=${inUse?.name}`) as Accuracy;
const ready = editions.editions.find((e) => e.state === "ready");
const changes = recordedBody(`GET /v1/atlas/changes?then=${ready?.name}`) as Changes;

const shown = async (...rules: ReturnType<typeof on>[]) => {
  const page = open("/atlas", { rules });
  await page.settled();
  return page;
};

it("takes an edition into use once, however often it is told to", async () => {
  let answer: (() => void) | undefined;
  const page = await shown();
  page.rule((a) =>
    a.path === "/v1/atlas/activate"
      ? new Promise((done) => (answer = () => done({ body: { edition: ready?.name } })))
      : undefined,
  );
  const use = screen.getByRole("button", { name: /^Use / });
  await page.user.click(use);
  await page.user.click(use);
  await waitFor(() => expect(answer).toBeTruthy());
  expect(page.sent("POST", "/v1/atlas/activate")).toHaveLength(1);
  answer?.();
  await screen.findByText(/is in use\.$/);
});

it("lists what an edition would change, the largest first, and says where it is not the whole", async () => {
  const page = await shown(on("GET", "/v1/atlas/changes", { body: { ...changes, ranges: 99_000 } }));
  const largest = changes.largest ?? [];
  await page.user.click(screen.getByRole("button", { name: `Look at the largest ${largest.length}` }));
  const list = await dialog(`From ${changes.now} to ${changes.then}`);
  expect([...list.querySelectorAll("tbody tr td:first-child")].map((td) => td.textContent)).toEqual(
    largest.map((c) => c.range),
  );
});

it("says that an edition changes nothing, and that no visit came from what it moves", async () => {
  const none = { visits: 0, ranges: 0 };
  const page = await shown(
    on("GET", "/v1/atlas/changes", { body: { ...changes, ranges: 0, counts: {}, largest: [] } }),
  );
  expect(page.text()).toContain("It would change nothing.");
  page.close();
  const visits = { ...changes.visits, differently: { ...changes.visits.differently, ...none } };
  const other = await shown(on("GET", "/v1/atlas/changes", { body: { ...changes, visits } }));
  expect(other.text()).toMatch(/no visit of the last \d+ days came from there/);
});

it("shares what an edition locates between levels, in figures that add up", async () => {
  const page = await shown();
  for (const bar of page.root.querySelectorAll(".levelbar")) {
    const shares = [...(bar.getAttribute("aria-label") ?? "").matchAll(/(< 1|\d+) %/g)];
    expect(shares).toHaveLength(4);
    const sum = shares.reduce((n, [, share]) => n + (share === "< 1" ? 0.5 : Number(share)), 0);
    expect(Math.abs(sum - 100)).toBeLessThanOrEqual(2);
  }
});

it("has each country of the coverage in its table, and on its map", async () => {
  const page = await shown();
  const table = screen.getByRole("region", { name: "Coverage by country" });
  expect(table.querySelectorAll("tbody tr")).toHaveLength(coverage.countries.length);
  const [first] = table.querySelectorAll("tbody tr a");
  expect(first?.getAttribute("href")).toMatch(/^\/visits\?country_code=[A-Z]{2}$/);
  const switcher = screen.getAllByRole("radiogroup", { name: "View" })[0] as HTMLElement;
  await page.user.click(within(switcher).getByText("Map"));
  const circles = page.root.querySelectorAll(".coverage-circle title");
  expect([...circles].map((t) => t.textContent.split(",")[0]).sort()).toEqual(
    coverage.countries
      .filter((c) => c.latitude !== null)
      .map((c) => c.country)
      .sort(),
  );
});

it("does not say that no visit came from a country where visits could not be loaded", async () => {
  await shown(on("GET", "/v1/reports/countries", problem(503, "Away.")));
  const table = screen.getByRole("region", { name: "Coverage by country" });
  expect(table.textContent).not.toContain("none");
});

it("says accuracy in words, and in a table a line for each edition", async () => {
  const page = await shown();
  const at50 = (edition: Accuracy) => edition.curve.find((c) => c.km === 50)?.share ?? 0;
  const plot = screen.getByRole("img", { name: /of the test points lie within 50 km/ });
  const main = recordedBody(`GET /v1/atlas/accuracy?edition=${ready?.name}`) as Accuracy;
  expect(plot.getAttribute("aria-label")).toContain(`${Math.round(100 * at50(main))} %`);
  expect(plot.textContent).toContain(`in use ${Math.round(100 * at50(accuracy))} %`);
  expect(page.root.querySelectorAll(".accuracy-table tbody tr")).toHaveLength(2);
});

it("goes back to an edition that is kept, by its name", async () => {
  const kept = { ...inUse, name: "2026-10-01-cafe", state: "kept", unusable: "", uses: [] };
  const page = await shown(
    on("GET", "/v1/atlas/editions", { body: { ...editions, editions: [...editions.editions, kept] } }),
    on("POST", "/v1/atlas/activate", { body: { edition: kept.name } }),
  );
  const row = screen.getByText(kept.name).closest("tr") as HTMLElement;
  await page.user.click(within(row).getByRole("button", { name: "Go back to it" }));
  await screen.findByText(`Edition ${kept.name} is in use.`);
  expect(page.sent("POST", "/v1/atlas/activate")[0]?.body).toEqual({ edition: kept.name });
});

it("offers nobody an edition that cannot be used, and says why", async () => {
  const bad = { ...inUse, name: "2026-10-01-dead", state: "kept", unusable: "of another format", uses: [] };
  await shown(on("GET", "/v1/atlas/editions", { body: { ...editions, editions: [inUse, bad] } }));
  const row = screen.getByText(bad.name).closest("tr") as HTMLElement;
  expect(row.textContent).toContain("of another format");
  expect(within(row).queryByRole("button")).toBe(null);
});

it("points at sources that are old, and lists what was rejected with line and reason", async () => {
  const [first, ...others] = atlas.sources.filter((s) => s.rank > 0);
  const source = {
    ...first,
    name: "oldest",
    dated: "2026-01-01",
    rejected: 1200,
    rejects: [{ line: 7, reason: "not a country code", text: "198.18.0.0/24,XX" }],
    remarks: [{ line: 9, reason: "the point is far away", text: "198.18.1.0/24,PT" }],
  };
  const page = await shown(on("GET", "/v1/atlas", { body: { ...atlas, sources: [source, ...others] } }));
  expect(page.root.querySelector(".sources .attention")?.textContent).toBe("331 days");
  await page.user.click(screen.getByRole("button", { name: "1200 rejects and 1 remarks of oldest" }));
  const list = await dialog("oldest");
  expect(list.textContent).toContain("1,200 lines were rejected.");
  expect([...list.querySelectorAll("tbody tr")].map((tr) => tr.textContent)).toEqual([
    "7not a country code198.18.0.0/24,XX",
    "9the point is far away198.18.1.0/24,PT",
  ]);
});

it("says that the last build failed, and that nothing else changed", async () => {
  const job = { ...editions.job, running: false, failed: "club.csv: line 3 has no range." };
  const page = await shown(on("GET", "/v1/atlas/editions", { body: { ...editions, job } }));
  expect(page.text()).toContain(
    "The last build failed. club.csv: line 3 has no range. The edition in use stays.",
  );
});

const description: Description = {
  format: "csv",
  reason: "its first line names columns",
  advice: ["Give a licence."],
  columns: [
    { name: "net", type: "text", filled: 1, values: ["198.18.0.0/24"], fact: "range" },
    { name: "cc", type: "text", filled: 0.5, values: ["PT", "NO"], fact: "country_code" },
    { name: "remark", type: "text", filled: 1, values: ["x"], fact: "" },
  ],
} as unknown as Description;

it("describes a file, lets its columns be mapped, and gives the lines to paste", async () => {
  const page = await shown(on("POST", "/v1/atlas/describe", { body: description }));
  const copied = vi.fn<(text: string) => Promise<void>>().mockResolvedValue();
  vi.spyOn(navigator.clipboard, "writeText").mockImplementation(copied);
  await page.user.click(screen.getByRole("button", { name: "Add a source" }));
  const form = await dialog("Add a source");
  const file = new File(['"net,cc,remark"'], "club.csv");
  await page.user.upload(within(form).getByLabelText("File of range data"), file);
  await waitFor(() => expect(form.textContent).toContain("It looks like csv: its first line names columns."));
  expect(form.textContent).toContain("50 %");
  expect(form.textContent).toContain("Give a licence.");
  await page.user.click(within(form).getByLabelText("What remark is"));
  await page.user.click(await screen.findByTitle("city"));
  await page.user.click(within(form).getByRole("button", { name: "Copy the lines" }));
  expect(copied).toHaveBeenCalledWith(
    linesFor("club.csv", description, { net: "range", cc: "country_code", remark: "city" }),
  );
});

it("says why a file is none", async () => {
  const page = await shown(
    on("POST", "/v1/atlas/describe", problem(422, "No column holds addresses.", "Choose another file.")),
  );
  await page.user.click(screen.getByRole("button", { name: "Add a source" }));
  const form = await dialog("Add a source");
  await page.user.upload(within(form).getByLabelText("File of range data"), new File(['"x"'], "x.csv"));
  expect((await within(form).findByRole("alert")).textContent).toBe(
    "No column holds addresses. Choose another file.",
  );
  expect(form.textContent).not.toContain("Add to the configuration");
});

it("writes the lines of a source so that YAML reads every name back", () => {
  const lines = linesFor('a "b": #c.csv', description, {
    net: "range",
    "tab: x": "city",
    operator: "operator",
  });
  expect(lines.split("\n")).toEqual([
    '- name: "a \\"b\\": #c.csv"',
    '  file: "a \\"b\\": #c.csv"',
    "  format: csv",
    "  rank: 3",
    '  columns: { range: "net", city: "tab: x" }',
  ]);
  expect(linesFor("l", { ...description, format: "list" } as Description, {})).toContain("label: my label");
});

const correction = {
  id: "c1",
  range: "198.18.9.0/24",
  country_code: "PT",
  region_code: "PT-11",
  city: "Lisbon",
  note: "moved",
  do_not_locate: false,
  made_at: "2026-11-20T10:00:00Z",
  made_by: "Anna",
};

it("lists corrections, and drops one only when that is confirmed", async () => {
  const page = await shown(
    on("GET", "/v1/corrections", { body: { corrections: [correction] } }),
    on("DELETE", "/v1/corrections/c1", { status: 204, body: null }),
  );
  expect(page.text()).toContain("198.18.9.0/24Lisbon, PT-11 PTmoved20 Nov");
  await page.user.click(screen.getByRole("button", { name: "Drop" }));
  const sure = await dialog("Delete this correction?");
  expect(page.sent("DELETE", "/v1/corrections/c1")).toEqual([]);
  await page.user.click(within(sure).getByRole("button", { name: "Drop it" }));
  await waitFor(() => expect(page.sent("DELETE", "/v1/corrections/c1")).toHaveLength(1));
});

it("sends no place with a range that is not to be located", async () => {
  const page = await shown(on("POST", "/v1/corrections", { status: 201, body: correction }));
  await page.user.click(screen.getByRole("button", { name: "Correct a range" }));
  const form = await dialog("Correct a range");
  await page.write(within(form).getByLabelText(/^Range/), "198.18.9.0/24");
  await page.write(within(form).getByLabelText("Country code"), "PT");
  await page.user.click(within(form).getByLabelText("It is not to be located"));
  expect(within(form).queryByLabelText("Country code")).toBe(null);
  await page.write(within(form).getByLabelText("Why"), "a proxy");
  await page.user.click(within(form).getByRole("button", { name: "Correct it" }));
  await waitFor(() =>
    expect(page.sent("POST", "/v1/corrections").map((a) => a.body)).toEqual([
      { range: "198.18.9.0/24", do_not_locate: true, note: "a proxy" },
    ]),
  );
});

it("sends a point with its radius, and leaves out what is emptied again", async () => {
  const page = await shown(on("POST", "/v1/corrections", { status: 201, body: correction }));
  await page.user.click(screen.getByRole("button", { name: "Correct a range" }));
  const form = await dialog("Correct a range");
  await page.write(within(form).getByLabelText(/^Range/), "198.18.9.0/24");
  await page.write(within(form).getByLabelText("Country code"), "PT");
  await page.write(within(form).getByLabelText("Latitude"), "38.7");
  await page.write(within(form).getByLabelText("Longitude"), "-9.1");
  await page.write(within(form).getByLabelText("Radius, km"), "5");
  await page.user.clear(within(form).getByLabelText("Radius, km"));
  await page.user.click(within(form).getByRole("button", { name: "Correct it" }));
  await waitFor(() =>
    expect(page.sent("POST", "/v1/corrections").map((a) => a.body)).toEqual([
      { range: "198.18.9.0/24", country_code: "PT", latitude: 38.7, longitude: -9.1 },
    ]),
  );
});

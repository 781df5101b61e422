import { fireEvent, screen, waitFor, within } from "@testing-library/react";
import { expect, it } from "vitest";
import type { Companion, CompanionList, CompanionSaid, CompanionTried } from "../../api/companions";
import { recordedBody } from "../../testkit/answers";
import { dialog, on, open, problem } from "../../testkit/console";
import { age, failing, matching, nameFor, span } from "./words";

const list = recordedBody("GET /v1/companions?site=heronlake.example") as CompanionList;
const weather = list.companions.find((c) => c.name === "weather") as Companion;
const line = (depth: number, before: string, text = "", pointer: string | null = null, type = "number") => ({
  depth,
  before,
  text,
  after: "",
  pointer,
  type: (pointer === null ? "" : type) as "number",
});

/** tried is what a place has, as the service says it. */
const tried = (place: string, code: string, category: string | null): CompanionTried => ({
  visitor: `${place}, ${code}`,
  place,
  country_code: code,
  language: "en",
  question: {
    text: "GET /v1/now?key=••••",
    time: "2026-11-28T12:00:00Z",
    status: 200,
    content_type: "application/json",
    bytes: 1234,
    took_ms: 38,
    problem: null,
  },
  answer: {
    values: { temperature: 17.2, cloud: 20, rain: 0, wind: 4.1 },
    category,
    human: { temperature: "17.2 °C", wind: "4.1 m/s" },
    credit: "Sky",
    credit_url: null,
    missing: category === null ? { category: "wind is missing, which decides whether it is storm" } : {},
    age: 240,
    pending: false,
    refresh_after: null,
  },
  lines: [
    line(0, "{"),
    line(1, '"now": {'),
    line(2, '"temp": ', "17.2", "/now/temp"),
    line(2, '"gust": ', "6.5", "/now/gust"),
    line(2, '"sky": ', '"clear"', "/now/sky", "text"),
    line(1, "}"),
    line(0, "}"),
  ],
  lines_cut: 3,
});
const four = [
  tried("Lisbon", "PT", "bright"),
  tried("Oslo", "NO", "grey"),
  tried("Mumbai", "IN", null),
  {
    ...tried("Auckland", "NZ", null),
    question: null,
    lines: [],
    answer: {
      ...tried("x", "NZ", null).answer,
      age: null,
      missing: { category: "it was not asked for this place yet" },
    },
  },
];
const given = (part: Partial<Companion>): CompanionList => ({
  ...list,
  companions: list.companions.map((c) => (c.name === "weather" ? { ...c, ...part } : c)),
});
const tries = on("POST", "/v1/companions/try", { body: { results: four } });
/** loaded opens the weather with what four places have. */
async function loaded() {
  const page = open("/companions?companion=weather", { rules: [tries] });
  await page.settled();
  await page.says("4 min");
  return page;
}
const saidOf = (body: unknown) => (body as { said: CompanionSaid }).said;

it("says how long, how old, and how many", () => {
  expect([span(900), span(3600), span(86_400), span(90), span(5400)]).toEqual([
    "15 min",
    "1 h",
    "1 d",
    "90 s",
    "90 min",
  ]);
  expect([age(12), age(240), age(7300), age(200_000)]).toEqual(["now", "4 min", "2 h", "2 d"]);
  expect(matching(four, "bright")).toBe(1);
  expect(matching(four, "storm")).toBe(0);
});

it("names a value after its pointer, as no other is called", () => {
  expect(nameFor("/now/wind", [])).toBe("wind");
  expect(nameFor("/now/wind", ["wind"])).toBe("wind_2");
  expect(nameFor("/next/0", [])).toBe("value_0");
  expect(nameFor("/now/Wind-Speed", ["wind_speed", "wind_speed_2"])).toBe("wind_speed_3");
});

it("says why a companion fails, and what is shown meanwhile", () => {
  const words = failing({
    ...weather,
    reason: "the service answered 503",
    since: "2026-11-28T07:31:00Z",
    next_try: "2026-11-28T07:46:00Z",
  });
  expect(words.since).toMatch(/^Answered 503, since \d\d:31;$/);
  expect(words.rest).toMatch(/with their age\. Next question at \d\d:46\.$/);
});

it("shows four places, the answer whole, and what leaves this machine", async () => {
  const page = await loaded();
  const editor = screen.getByRole("region", { name: "Companion weather" });
  const table = within(editor).getByRole("table");
  const rows = within(table).getAllByRole("row");
  expect(rows[1]?.textContent).toBe(" Lisbon17.22004.1bright4 min");
  expect(rows[3]?.textContent).toContain("none");
  expect(rows[4]?.textContent).toContain("it was not asked for this place yet");
  expect(editor.textContent).toContain("1 of 3");
  expect(editor.textContent).toContain("200, JSON, 1.2 kB, 38 ms");
  expect(editor.textContent).toContain("3 more lines");
  expect(editor.textContent).toContain("not in this answer");
  const sends = screen.getByRole("region", { name: "What leaves this machine" });
  expect(sends.textContent).toContain("place, rounded to 0.1° (11 km)");
  expect(sends.textContent).toContain("never the visitor’s address");
  expect(page.text().replaceAll("\u200b", "")).toContain("companions.weather.category");
});

it("picks a value by a click, and gives it a unit", async () => {
  const page = await loaded();
  await page.user.click(screen.getByRole("button", { name: /"gust": 6.5/ }));
  expect(screen.getByLabelText("Name of the value")).toHaveProperty("value", "gust");
  fireEvent.change(screen.getByLabelText("Unit of the value"), { target: { value: "m/s" } });
  await page.user.click(screen.getByRole("button", { name: /"sky": "clear"/ }));
  const put = on("PUT", "/v1/companions/weather", (a) => ({ body: { ...weather, said: saidOf(a.body) } }));
  page.rule(put);
  await page.user.click(screen.getByRole("button", { name: "Save" }));
  await page.says("Saved. Cards have it from now on.");
  const said = saidOf(page.sent("PUT", "/v1/companions/weather")[0]?.body);
  expect(said.values.slice(-2)).toEqual([
    { name: "gust", pointer: "/now/gust", type: "number", unit: "m/s" },
    { name: "sky", pointer: "/now/sky", type: "text", unit: "" },
  ]);
});

it("changes parameters, categories and limits, and discards them", async () => {
  const page = await loaded();
  expect(screen.getByRole("button", { name: "Save" })).toHaveProperty("disabled", true);
  await page.user.click(screen.getByRole("button", { name: "{time_zone}" }));
  await page.user.click(screen.getByRole("button", { name: "Drop parameter units" }));
  await page.user.click(screen.getByRole("button", { name: /^snow/ }));
  fireEvent.change(screen.getByLabelText("When it is active"), { target: { value: "temperature <= 1" } });
  await page.user.click(screen.getByRole("button", { name: "Up" }));
  await page.user.click(screen.getByRole("button", { name: "Done" }));
  fireEvent.change(screen.getByLabelText("Questions a day"), { target: { value: "50" } });
  await page.user.click(
    within(screen.getByRole("radiogroup", { name: "Whether it is asked" })).getByText("Off"),
  );
  page.rule(
    on(
      "PUT",
      "/v1/companions/weather",
      problem(409, "The companion was changed meanwhile.", "Read it again."),
    ),
  );
  await page.user.click(screen.getByRole("button", { name: "Save" }));
  await page.says("The companion was changed meanwhile.");
  const said = saidOf(page.sent("PUT", "/v1/companions/weather")[0]?.body);
  expect(said.parameters.map((p) => p.name)).toEqual(["lat", "lon", "lang", "key", "time_zone"]);
  expect(said.categories[0]).toEqual({ name: "snow", when: "temperature <= 1" });
  expect([said.a_day, said.reserve, said.enabled]).toEqual([50, 50, false]);
  await page.user.click(screen.getByRole("button", { name: "Discard" }));
  await waitFor(() => expect(screen.getByLabelText("Questions a day")).toHaveProperty("value", "1000"));
});

it("asks the service when it is told to, for one place or for all", async () => {
  const page = await loaded();
  await page.user.click(
    within(screen.getByRole("radiogroup", { name: "A visitor to try it with" })).getByText("Oslo"),
  );
  await page.user.click(screen.getByRole("button", { name: "Try" }));
  await page.user.click(screen.getByRole("button", { name: "Ask all" }));
  await waitFor(() => {
    const asked = page.sent("POST", "/v1/companions/try").filter((a) => (a.body as { ask: boolean }).ask);
    expect(asked.map((a) => (a.body as { visitors: string[] }).visitors)).toEqual([
      ["Oslo, NO"],
      ["Lisbon, PT", "Oslo, NO", "Mumbai, IN", "Auckland, NZ"],
    ]);
  });
});

it("says that a companion fails, and asks it again", async () => {
  const fails = given({
    standing: "fails",
    reason: "the service answered 503",
    since: "2026-11-28T07:31:00Z",
    next_try: "2026-11-28T07:46:00Z",
  });
  const page = open("/companions?companion=weather", {
    rules: [
      tries,
      on("GET", "/v1/companions", { body: fails }),
      on("POST", "/v1/companions/weather/ask", { body: { ...weather, standing: "answers" } }),
    ],
  });
  await page.settled();
  expect(screen.getByRole("link", { name: /Companions/ }).textContent).toContain("Companions");
  expect(screen.getAllByRole("img", { name: "one fails" }).length).toBeGreaterThan(0);
  await page.user.click(screen.getByRole("button", { name: "Ask now" }));
  await page.says("It answers again.");
});

it("makes a companion, and says what is wrong with it", async () => {
  const page = open("/companions", {
    rules: [
      on("GET", "/v1/companions", { body: { ...list, companions: [] } }),
      on(
        "POST",
        "/v1/companions/try",
        problem(422, "url: it is not an address of HTTP.", "Write it like https://sky.example."),
      ),
    ],
  });
  await page.settled();
  await page.says("No companions yet");
  await page.user.click(screen.getByRole("button", { name: "Add a companion" }));
  const editor = screen.getByRole("region", { name: "New companion" });
  expect(within(editor).getByRole("button", { name: "Try" })).toHaveProperty("disabled", true);
  fireEvent.change(within(editor).getByLabelText("Title"), { target: { value: "Tide" } });
  fireEvent.change(within(editor).getByLabelText("Name on the card"), { target: { value: "High-Tide" } });
  expect(within(editor).getByLabelText("Name on the card")).toHaveProperty("value", "high_tide");
  fireEvent.change(within(editor).getByLabelText("Address of the service"), { target: { value: "tide" } });
  await page.says("url: it is not an address of HTTP.");
});

it("drops a companion after asking", async () => {
  const page = open("/companions?companion=weather", {
    rules: [tries, on("DELETE", "/v1/companions/weather", { status: 204, body: null })],
  });
  await page.settled();
  await page.user.click(screen.getByRole("button", { name: "Drop this companion" }));
  await page.user.click(within(await dialog("Drop Weather?")).getByRole("button", { name: "Drop" }));
  await page.says("weather is gone.");
  expect(page.sent("DELETE", "/v1/companions/weather")).toHaveLength(1);
});

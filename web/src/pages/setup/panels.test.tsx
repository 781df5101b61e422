import { screen, waitFor, within } from "@testing-library/react";
import { expect, it, vi } from "vitest";
import type { Key, Variants } from "../../api/client";
import { recordedBody } from "../../testkit/answers";
import { dialog, on, open, problem } from "../../testkit/console";

const keys = recordedBody("GET /v1/keys") as { keys: Key[] };
const variants = recordedBody("GET /v1/variants?site=heronlake.example") as Variants;
const rates = recordedBody("GET /v1/rates") as Record<string, unknown>;
const fields = "location.country_code,location.names.city,locale.language,money.currency_code";
const { snippets } = recordedBody(`GET /v1/snippets?fields=${fields}`) as {
  snippets: { name: string; title: string; text: string; note: string }[];
};

const shown = async (...rules: ReturnType<typeof on>[]) => {
  const page = open("/setup", { rules });
  await page.settled();
  const copied = vi.fn<(text: string) => Promise<void>>().mockResolvedValue();
  vi.spyOn(navigator.clipboard, "writeText").mockImplementation(copied);
  return { ...page, copied, panel: (name: string) => within(screen.getByRole("region", { name })) };
};

it("renames a key, and keeps the form open where the name is refused", async () => {
  let refused = true;
  const page = await shown(
    on("PATCH", /^\/v1\/keys\//, () =>
      refused ? problem(422, "name is taken", "Give another.") : { status: 204, body: null },
    ),
  );
  await page.user.click(screen.getAllByRole("button", { name: "Rename" })[0] as HTMLElement);
  const form = await dialog("Rename the key");
  const field = within(form).getByLabelText<HTMLInputElement>("Name");
  expect(field.value).toBe(keys.keys.find((k) => !k.revoked)?.name);
  await page.user.clear(field);
  await page.write(field, "Front pages{Enter}");
  expect((await within(form).findByRole("alert")).textContent).toBe("name is taken Give another.");
  refused = false;
  await page.user.click(within(form).getByRole("button", { name: "Rename it" }));
  await waitFor(() => expect(screen.queryByRole("dialog")).toBe(null));
  expect(page.asked.filter((a) => a.method === "PATCH").map((a) => a.body)).toEqual([
    { name: "Front pages" },
    { name: "Front pages" },
  ]);
});

it("counts revoked keys, and lists none of them", async () => {
  const [one] = keys.keys;
  const gone = { ...one, id: "gone", name: "Gone", revoked: "2026-11-01T00:00:00Z" };
  const page = await shown(on("GET", "/v1/keys", { body: { keys: [one, gone, { ...gone, id: "g2" }] } }));
  expect(page.text()).toContain("2 keys are revoked.");
  expect(screen.queryByText("Gone")).toBe(null);
});

it("ends other sessions, never the one that looks", async () => {
  const session = (id: string, user_agent: string) => ({
    id,
    user_agent,
    how: "key",
    created: "2026-11-28T09:00:00Z",
    expires: "2026-11-28T21:00:00Z",
  });
  const page = await shown(
    on("GET", "/v1/sessions", {
      body: { current: "s1", sessions: [session("s1", "Here"), session("s2", "There")] },
    }),
    on("DELETE", "/v1/sessions/s2", { status: 204, body: null }),
  );
  await page.user.click(screen.getByRole("button", { name: "Sessions" }));
  const here = (await screen.findByText("Here")).closest("tr") as HTMLElement;
  expect(here.textContent).toContain("this browser");
  expect(within(here).queryByRole("button")).toBe(null);
  await page.user.click(screen.getByRole("button", { name: "End it" }));
  await waitFor(() => expect(page.sent("DELETE", "/v1/sessions/s2")).toHaveLength(1));
});

it("shows the audit log as the service has it, and closes it again", async () => {
  const event = { id: 1, time: "2026-11-28T10:11:12Z", what: "key made", actor: "Anna", detail: "“Pages”" };
  const page = await shown(on("GET", "/v1/audit-log", { body: { events: [event] } }));
  await page.user.click(screen.getByRole("button", { name: "Audit log" }));
  const log = await screen.findByRole("region", { name: "Audit log" });
  await waitFor(() => expect(log.textContent).toContain("key madeAnna“Pages”"));
  await page.user.click(screen.getByRole("button", { name: "Audit log" }));
  expect(screen.queryByRole("region", { name: "Audit log" })).toBe(null);
});

it.each([
  [{ age_days: 0, stale: false }, "of today"],
  [{ age_days: 1, stale: false }, "one day old"],
  [{ age_days: 9, stale: true }, "9 days old"],
])("says how old rates are: %j", async (more, words) => {
  const page = await shown(on("GET", "/v1/rates", { body: { ...rates, ...more } }));
  await page.says(words);
  const isAttention = [...page.root.querySelectorAll(".attention")].some((e) => e.textContent === words);
  expect(isAttention).toBe(more.stale);
});

it("says that rates could not be read anew, why, and which lines were rejected", async () => {
  const body = {
    ...rates,
    problem: "https://rates.example answered 500.",
    rejects: ["line 4: XXZ is no currency"],
  };
  const page = await shown(on("GET", "/v1/rates", { body }));
  expect(page.text()).toContain("The last update failed; these are the rates from before.");
  expect(page.text()).toContain("https://rates.example answered 500.");
  expect(page.text()).toContain("line 4: XXZ is no currency");
});

it("says what to do for prices where there are no rates", async () => {
  const page = await shown(on("GET", "/v1/rates", { body: { ...rates, base: "", rates: {}, rejects: [] } }));
  expect(page.text()).toContain("None. Name a file or an address under rates");
});

it("opens to a line for each rate", async () => {
  const page = await shown();
  await page.user.click(screen.getByRole("button", { name: /^All rates/ }));
  const lines = [...page.root.querySelectorAll(".local-rates tr")].map((tr) => tr.textContent);
  expect(lines).toEqual(Object.entries(rates["rates"] as object).map(([code, rate]) => `${code}${rate}`));
});

it("changes a set of variants of the console, and none of the configuration", async () => {
  const rules = [{ variant: "fjord", when: { countries: ["NO"] } }];
  const own = { name: "offers", default: "lake", rules, from: "console" };
  const fixed = { ...own, name: "banners", from: "configuration" };
  const page = await shown(
    on("GET", "/v1/variants", { body: { ...variants, sets: [own, fixed] } }),
    on("GET", "/v1/countries", { body: { countries: [{ country_code: "NO", name: "Norway" }] } }),
    on("PUT", "/v1/variants/offers", { body: {} }),
    on("DELETE", "/v1/variants/offers", { status: 204, body: null }),
  );
  const local = page.panel("Localization");
  expect(local.getAllByRole("button", { name: "Change" })).toHaveLength(1);
  expect(page.text()).toContain("from the configuration");
  await page.user.click(local.getByRole("button", { name: "Change" }));
  const form = await dialog("Variants of “offers”");
  await page.user.click(within(form).getByRole("button", { name: "Remove this rule" }));
  await page.user.click(within(form).getByRole("button", { name: "Save and use" }));
  await waitFor(() =>
    expect(page.sent("PUT", "/v1/variants/offers")[0]?.body).toEqual({
      name: "offers",
      default: "lake",
      rules: [],
    }),
  );
  await page.user.click(local.getByRole("button", { name: "Drop" }));
  await screen.findByText("“offers” was deleted.");
});

it("says that a site without languages takes any", async () => {
  const page = await shown(on("GET", "/v1/variants", { body: { ...variants, languages: [] } }));
  expect(page.text()).toContain("Any. Name those that the site has under sites.languages");
});

it("copies each snippet exactly as the service gave it", async () => {
  const page = await shown();
  const panel = page.panel("Snippets");
  for (const title of ["page", "go", "node", "python", "nginx"]) {
    const snippet = snippets.find((s) => s.name === title);
    await page.user.click(panel.getByText(snippet?.title ?? ""));
    await page.user.click(panel.getByRole("button", { name: "Copy" }));
    expect(page.copied).toHaveBeenLastCalledWith(snippet?.text);
    expect(page.text()).toContain(snippet?.note);
  }
});

it("has every other snippet behind the list of more", async () => {
  const page = await shown();
  const more = page.panel("Snippets").getByLabelText("More languages");
  const last = snippets.at(-1);
  await page.user.click(more);
  await page.user.click(await screen.findByTitle(last?.title ?? ""));
  await waitFor(() => expect(page.root.querySelector(".snippet-code pre")?.textContent).toBe(last?.text));
});

it("asks for snippets of another address as it is typed, and keeps the last that were right", async () => {
  const page = await shown();
  page.rule(
    on("GET", "/v1/snippets", ({ query }) =>
      query.get("base") === "https://in.example"
        ? { body: { base: "https://in.example", snippets: [{ ...snippets[0], text: "from there" }] } }
        : query.has("base")
          ? problem(422, "base is not an address", "Give https://in.example.")
          : undefined,
    ),
  );
  const field = screen.getByLabelText(/^Where pages and applications/);
  await page.write(field, "https://in.example");
  await page.says("from there");
});

it("shows the short answer beside the whole, with what it weighs", async () => {
  const page = await shown();
  const short = await screen.findByLabelText("Short answer");
  expect(short.textContent).toContain("GET /v1/addresses/");
  const text = short.textContent.slice(short.textContent.indexOf("{"));
  const bytes = [...page.root.querySelectorAll(".snippet-answer b")].map((b) =>
    Number(b.textContent.replace(/\D/g, "")),
  );
  expect(Object.keys(JSON.parse(text) as object).sort()).toEqual(["locale", "location", "money"]);
  expect(bytes[0]).toBeLessThan((bytes[1] ?? 0) / 5);
  const whole = screen.getByLabelText("Whole card");
  const folded = whole.textContent.length;
  await page.user.click(screen.getByRole("button", { name: "Unfold" }));
  expect(whole.textContent.length).toBeGreaterThan(folded);
});

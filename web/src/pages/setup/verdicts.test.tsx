import { screen, waitFor, within } from "@testing-library/react";
import { expect, it } from "vitest";
import type { Checkup, Variants } from "../../api/client";
import { recordedBody } from "../../testkit/answers";
import { dialog, on, open, problem } from "../../testkit/console";

const checkup = recordedBody("GET /v1/checkup") as Checkup;
const variants = recordedBody("GET /v1/variants?site=heronlake.example") as Variants;
type Finding = Checkup["findings"][number];

const finding = (name: string, state: string, more: Partial<Finding> = {}): Finding =>
  ({
    name,
    state,
    title: `Title of ${name}.`,
    text: `Text of ${name}.`,
    where: "configuration",
    lines: [],
    ...more,
  }) as Finding;

it("gives every finding that needs attention its text and its lines", async () => {
  const report = {
    ...checkup,
    state: "attention",
    title: "Title of one.",
    findings: [
      finding("fine", "ok"),
      finding("one", "attention", { lines: ["proxies:", "  trusted: [203.0.113.9/32]"] }),
      finding("two", "attention", { lines: ["header: X-Real-IP"] }),
    ],
  };
  const page = open("/setup", { rules: [on("GET", "/v1/checkup", { body: report })] });
  await page.settled();
  for (const words of [
    "Text of one.",
    "trusted: [203.0.113.9/32]",
    "Text of two.",
    "header: X-Real-IP",
    "Title of fine.",
  ])
    expect(page.text()).toContain(words);
  expect(page.text()).not.toContain("Visitors are found as they should be.");
});

it("gives no verdict where the check could not be loaded", async () => {
  const page = open("/setup", { rules: [on("GET", "/v1/checkup", problem(503, "Away."))] });
  await page.says("The checkup could not be loaded.");
  expect(page.text()).not.toContain("Visitors are found as they should be.");
});

it("makes a set of variants, rule by rule", async () => {
  const page = open("/setup", {
    rules: [
      on("PUT", /^\/v1\/variants\//, { status: 200, body: {} }),
      on("GET", "/v1/countries", { body: { countries: [{ country_code: "PT", name: "Portugal" }] } }),
    ],
  });
  await page.settled();
  await page.user.click(screen.getByRole("button", { name: "New set" }));
  const form = await dialog("New set of variants");
  await page.write(within(form).getByLabelText("What it is of"), "banners");
  await page.user.click(within(form).getByRole("button", { name: "Add a rule" }));
  await page.write(within(form).getAllByLabelText("Variant").at(-1) as HTMLElement, "coast");
  await page.write(within(form).getByLabelText("Everyone else"), "lake");
  await page.user.click(within(form).getByRole("button", { name: "Save and use" }));
  await waitFor(() => expect(page.sent("PUT", "/v1/variants/banners")).toHaveLength(1));
  const [sent] = page.sent("PUT", "/v1/variants/banners");
  expect(sent?.query.get("site")).toBe("heronlake.example");
  const body = sent?.body as { name: string; default: string; rules: { variant: string }[] };
  expect([body.name, body.default, body.rules.at(-1)?.variant]).toEqual(["banners", "lake", "coast"]);
});

it("says that there are no variants yet", async () => {
  const page = open("/setup", {
    rules: [on("GET", "/v1/variants", { body: { ...variants, sets: [] } })],
  });
  await page.says("No variants yet.");
});

import { screen, waitFor, within } from "@testing-library/react";
import { expect, it } from "vitest";
import type { Editions } from "../../api/client";
import { recordedBody } from "../../testkit/answers";
import { dialog, on, open, problem } from "../../testkit/console";

const editions = recordedBody("GET /v1/atlas/editions") as Editions;
const ready = editions.editions.find((e) => e.state === "ready")?.name ?? "";

const shown = async (...rules: ReturnType<typeof on>[]) => {
  const page = open("/atlas", { rules });
  await page.settled();
  return page;
};

it("says what the edition that waits would change, and takes it into use", async () => {
  const page = await shown(on("POST", "/v1/atlas/activate", { body: { edition: ready } }));
  expect(page.text()).toMatch(/It would move [\d,]+ ranges?/);
  const asked = page.sent("GET", "/v1/atlas").length;
  await page.user.click(screen.getByRole("button", { name: /^Use / }));
  await screen.findByText(`Edition ${ready} is in use.`);
  expect(page.sent("POST", "/v1/atlas/activate").map((a) => a.body)).toEqual([{ edition: ready }]);
  await waitFor(() => expect(page.sent("GET", "/v1/atlas").length).toBeGreaterThan(asked));
});

it("says why an edition could not be taken into use, and leaves the one that is", async () => {
  const page = await shown(
    on("POST", "/v1/atlas/activate", problem(409, "Its sources have shrunk.", "Look at them.")),
  );
  await page.user.click(screen.getByRole("button", { name: /^Use / }));
  await screen.findByText(/Its sources have shrunk/);
  expect(screen.queryByText(/is in use\.$/)).toBe(null);
});

it("shows how far a build is, and lets nobody begin another", async () => {
  const job = {
    ...editions.job,
    running: true,
    doing: "reading",
    sources: [
      { name: "a", doing: "read", bytes: 10, lines: 1200 },
      { name: "b", doing: "parsing", bytes: 5, lines: 34 },
    ],
  };
  const page = await shown(on("GET", "/v1/atlas/editions", { body: { ...editions, job } }));
  expect(page.text()).toContain("reading · 1,234 lines");
  expect(screen.getByRole("progressbar", { name: "Sources read" }).getAttribute("aria-valuenow")).toBe("50");
  for (const button of screen.getAllByRole<HTMLButtonElement>("button", { name: /Build/ }))
    expect(button.disabled).toBe(true);
});

it("says that none waits only where none does", async () => {
  const none = { ...editions, editions: editions.editions.filter((e) => e.state !== "ready") };
  const page = await shown(on("GET", "/v1/atlas/editions", { body: none }));
  expect(page.text()).toContain("No newer edition");
  page.close();
  const failing = await shown(on("GET", "/v1/atlas/editions", problem(503, "The shelf is away.")));
  expect(failing.text()).not.toContain("No newer edition");
  expect(failing.text()).toContain("The atlas could not be loaded.");
});

it("adds a correction, and says which field is wrong", async () => {
  let wrong = true;
  const page = await shown(
    on("POST", "/v1/corrections", () =>
      wrong ? problem(422, "range is not a range", "Give 198.18.3.0/26.") : { status: 201, body: {} },
    ),
  );
  await page.user.click(screen.getByRole("button", { name: "Correct a range" }));
  const form = await dialog("Correct a range");
  const [range] = within(form).getAllByRole("textbox");
  await page.write(range as HTMLElement, "198.18.3.0/99");
  const save = within(form).getAllByRole("button").at(-1) as HTMLElement;
  await page.user.click(save);
  await waitFor(() => expect(form.textContent).toContain("range is not a range"));
  wrong = false;
  await page.user.click(save);
  await waitFor(() => expect(page.sent("POST", "/v1/corrections")).toHaveLength(2));
  expect(page.sent("POST", "/v1/corrections")[0]?.body).toMatchObject({ range: "198.18.3.0/99" });
});

it("tells that no test points are named from a measure that failed", async () => {
  const page = await shown(on("GET", "/v1/atlas/accuracy", problem(404, "No test points.")));
  expect(page.text()).toContain("Nobody has named points");
  page.close();
  const failing = await shown(on("GET", "/v1/atlas/accuracy", problem(500, "It broke.")));
  expect(failing.text()).toContain("Accuracy could not be measured.");
});

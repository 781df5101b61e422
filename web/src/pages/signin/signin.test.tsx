import { screen } from "@testing-library/react";
import { expect, it } from "vitest";
import { on, open, problem } from "../../testkit/console";

const out = on("GET", "/v1/sites", problem(401, "No session."));

it("asks whoever is signed out, and opens with the key", async () => {
  let isIn = false;
  const page = open("/visits", {
    rules: [
      on("GET", "/v1/sites", () => (isIn ? undefined : problem(401, "No session."))),
      on("POST", "/v1/sessions", ({ body }) => {
        if ((body as { key: string }).key !== "porch_admin_right")
          return problem(401, "No such key.", "Look again.");
        isIn = true;
        return { status: 201, body: {} };
      }),
    ],
  });
  const field = await screen.findByLabelText("Admin key");
  expect(screen.getByRole<HTMLButtonElement>("button", { name: "Sign in" }).disabled).toBe(true);
  await page.write(field, " porch_admin_wrong ");
  await page.user.click(screen.getByRole("button", { name: "Sign in" }));
  expect((await screen.findByRole("alert")).textContent).toContain("No such key. Look again.");
  await page.user.clear(field);
  await page.write(field, "porch_admin_right{Enter}");
  await screen.findByRole("heading", { level: 1, name: "Visits" });
  expect(page.sent("POST", "/v1/sessions").map((a) => a.body)).toEqual([
    { key: "porch_admin_wrong" },
    { key: "porch_admin_right" },
  ]);
});

it("spends the link of the address once, and takes it out of the address", async () => {
  const page = open("/sign-in#porch_once_abc", {
    rules: [on("POST", "/v1/sessions", problem(401, "The link was used.")), out],
  });
  expect((await screen.findByRole("alert")).textContent).toContain("The link was used.");
  expect(page.sent("POST", "/v1/sessions").map((a) => a.body)).toEqual([{ link: "porch_once_abc" }]);
  expect(location.href).not.toContain("porch_once");
});

it("says that nothing answers", async () => {
  const page = open("/sign-in", { rules: [on("POST", "/v1/sessions", "gone"), out] });
  await page.write(await screen.findByLabelText("Admin key"), "porch_admin_x{Enter}");
  expect((await screen.findByRole("alert")).textContent).toContain("The service does not answer");
});

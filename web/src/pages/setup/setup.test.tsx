import { screen, waitFor, within } from "@testing-library/react";
import { expect, it } from "vitest";
import { dialog, on, open, problem } from "../../testkit/console";

const shown = async () => {
  const page = open("/setup");
  await page.settled();
  return page;
};

it("makes a key, shows its secret once, and forgets it", async () => {
  const page = await shown();
  page.rule(on("POST", "/v1/keys", { status: 201, body: { secret: "porch_page_secret" } }));
  await page.user.click(screen.getByRole("button", { name: "Create key" }));
  const form = await dialog("Create key");
  await page.write(within(form).getByLabelText("Name"), "Programme page");
  await page.user.click(within(form).getByRole("button", { name: "Create" }));
  await screen.findByText("porch_page_secret");
  expect(page.sent("POST", "/v1/keys")[0]?.body).toEqual({
    name: "Programme page",
    scope: "page",
    sites: ["heronlake.example"],
    origins: [],
  });
  await page.user.click(screen.getByRole("button", { name: "I have saved it" }));
  await waitFor(() => expect(page.root.innerHTML).not.toContain("porch_page_secret"));
});

it("sends neither sites nor origins with the key of a server", async () => {
  const page = await shown();
  page.rule(on("POST", "/v1/keys", { status: 201, body: { secret: "s" } }));
  await page.user.click(screen.getByRole("button", { name: "Create key" }));
  const form = await dialog("Create key");
  await page.user.click(within(form).getByLabelText(/^server/));
  await page.write(within(form).getByLabelText("Name"), "Reports");
  await page.user.click(within(form).getByRole("button", { name: "Create" }));
  await waitFor(() =>
    expect(page.sent("POST", "/v1/keys")[0]?.body).toEqual({
      name: "Reports",
      scope: "server",
      sites: [],
      origins: [],
    }),
  );
});

it("keeps what was typed where the key is refused, and says why", async () => {
  const page = await shown();
  page.rule(on("POST", "/v1/keys", problem(422, "name is empty", "Give one.")));
  await page.user.click(screen.getByRole("button", { name: "Create key" }));
  const form = await dialog("Create key");
  await page.write(within(form).getByLabelText("Name"), "x");
  await page.user.click(within(form).getByRole("button", { name: "Create" }));
  expect((await within(form).findByRole("alert")).textContent).toContain("name is empty");
  expect(within(form).getByLabelText<HTMLInputElement>("Name").value).toBe("x");
});

it("shows what was made with a key before it revokes it", async () => {
  const page = await shown();
  const made = {
    keys: [
      {
        id: "k2",
        name: "Child",
        scope: "server",
        created: "2026-11-20T10:00:00Z",
        made_by: { name: "Parent" },
      },
    ],
    sessions: [{ id: "s1" }],
  };
  page.rule(on("GET", /\/v1\/keys\/[^/]+\/made$/, { body: made }));
  page.rule(on("DELETE", /\/v1\/keys\/[^/]+$/, { body: { revoked: ["k1", "k2"] } }));
  await page.user.click(screen.getAllByRole("button", { name: "Revoke…" })[0] as HTMLElement);
  const form = await dialog("Revoke “");
  await within(form).findByText("Child");
  expect(form.textContent).toContain("One session that it opened ends");
  await page.user.click(within(form).getByLabelText("Revoke them too"));
  await page.user.click(within(form).getByRole("button", { name: "Revoke it" }));
  await waitFor(() =>
    expect(page.asked.find((a) => a.method === "DELETE")?.query.get("made")).toBe("revoke"),
  );
});

it("says that no key is active, rather than an empty table", async () => {
  const page = open("/setup", { rules: [on("GET", "/v1/keys", { body: { keys: [] } })] });
  await page.says("No active keys");
});

it("opens the audit log only when asked, and says where it fails", async () => {
  const page = await shown();
  expect(page.sent("GET", "/v1/audit-log")).toEqual([]);
  page.rule(on("GET", "/v1/audit-log", problem(503, "The database is away.")));
  await page.user.click(screen.getByRole("button", { name: "Audit log" }));
  await page.says("The audit log could not be loaded.");
});

it("asks for the snippets of the facts that are ticked", async () => {
  const page = await shown();
  page.rule(
    on("GET", "/v1/snippets", (a) =>
      a.query.get("fields") === "" ? problem(422, "fields is empty") : undefined,
    ),
  );
  const before = page.sent("GET", "/v1/snippets").at(-1)?.query.get("fields");
  const box = screen.getAllByRole("checkbox").find((b) => (b as HTMLInputElement).checked) as HTMLElement;
  await page.user.click(box);
  await waitFor(() => {
    const now = page.sent("GET", "/v1/snippets").at(-1)?.query.get("fields") ?? "";
    expect(now.split(",").length).toBe((before ?? "").split(",").length - 1);
  });
});

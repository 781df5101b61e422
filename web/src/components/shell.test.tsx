import { readFileSync } from "node:fs";
import { join } from "node:path";
import { screen, waitFor } from "@testing-library/react";
import { expect, it } from "vitest";
import { signedOut, type Checkup, type Sites } from "../api/client";
import { recordedBody } from "../testkit/answers";
import { on, open, problem } from "../testkit/console";
import { routes } from "../routes";
import { names } from "./Failures";

const sites = recordedBody("GET /v1/sites") as Sites;
const checkup = recordedBody("GET /v1/checkup") as Checkup;
const heading = (name: string) => screen.findByRole("heading", { level: 1, name });

it("opens every page by two keys, and none while somebody types", async () => {
  const page = open("/lookup");
  await page.settled();
  for (const route of routes) {
    (document.activeElement as HTMLElement | null)?.blur();
    await page.user.keyboard(`g${route.key}`);
    await heading(route.title);
  }
  await page.user.keyboard("/gt");
  expect(location.pathname).toBe(routes.at(-1)?.path);
  expect((document.activeElement as HTMLInputElement).value).toBe("gt");
});

it("lists its keys when asked", async () => {
  const page = open("/lookup");
  await page.settled();
  await page.user.keyboard("?");
  const dialog = await screen.findByRole("dialog");
  for (const route of routes) expect(dialog.textContent).toContain(`Go to ${route.title}`);
});

it("begins with Today, also where a page does not exist", async () => {
  open("/no-such-page");
  await heading("Today");
  expect(location.pathname).toBe("/today");
});

it("looks up what is typed into the bar", async () => {
  const page = open("/trail");
  await page.settled();
  await page.write(screen.getByLabelText("Look up an address"), " 198.18.3.40 {Enter}");
  await heading("Look up");
  expect(location.search).toBe("?address=198.18.3.40");
});

it("turns dark and stays so", async () => {
  const page = open("/lookup");
  await page.settled();
  await page.user.click(screen.getByRole("button", { name: "Turn to dark" }));
  await screen.findByRole("button", { name: "Turn to light" });
  expect(localStorage.getItem("ep-mode")).toBe("dark");
});

it("asks for the visits of the site that is chosen", async () => {
  const [first] = sites.sites;
  const two = { ...sites, sites: [first, { ...first, host: "harbour.example", name: "Harbour" }] };
  const page = open("/visits", {
    rules: [
      on("GET", "/v1/sites", { body: two }),
      on("GET", "/v1/visits", ({ query }) =>
        query.get("site") === "harbour.example"
          ? { body: { visits: [], next: null, count: { matching: 0, all: 0, more: false } } }
          : undefined,
      ),
    ],
  });
  await page.settled();
  await page.user.click(screen.getByRole("button", { name: /^Site: Heron Lake/ }));
  await page.user.click(await screen.findByRole("menuitem", { name: "Harbour" }));
  await page.says("No visits yet.");
  expect(new URL(page.stream()?.url ?? "").searchParams.get("site")).toBe("harbour.example");
  expect(localStorage.getItem("ep-site")).toBe("harbour.example");
});

it("says on every page that the set-up needs attention, until that is put away", async () => {
  const bad = { ...checkup, state: "attention", title: "203.0.113.9 is not trusted." };
  const page = open("/visits", { rules: [on("GET", "/v1/checkup", { body: bad })] });
  await page.says("203.0.113.9 is not trusted.");
  expect(screen.getAllByRole("img", { name: "needs attention" }).length).toBeGreaterThan(0);
  await page.user.click(screen.getByRole("button", { name: "Put it away" }));
  await waitFor(() => expect(page.text()).not.toContain("203.0.113.9 is not trusted."));
});

it("shows the sign-in page once the session has ended", async () => {
  let ended = false;
  const page = open("/lookup", {
    rules: [
      (asked) =>
        ended && asked.path.startsWith("/v1/") ? problem(401, "The session has ended.") : undefined,
    ],
  });
  await page.settled();
  ended = true;
  await page.write(screen.getByLabelText("Address to look up"), "198.18.3.40{Enter}");
  await heading("Sign in");
});

it("keeps what was typed while the session had ended, and goes on after the key", async () => {
  let ended = false;
  let away = false;
  const page = open("/lookup", {
    rules: [
      () => (away ? "gone" : undefined),
      on("POST", "/v1/sessions", () => {
        ended = false;
        return { status: 201, body: {} };
      }),
      (asked) =>
        ended && asked.path.startsWith("/v1/") ? problem(401, "The session has ended.") : undefined,
    ],
  });
  await page.settled();
  const jump = screen.getByLabelText<HTMLInputElement>("Address to look up");
  await page.write(jump, "198.18.3.40 and a half");
  ended = true;
  signedOut.dispatchEvent(new Event("out")); // as whatever is saved does
  await heading("Sign in");
  await screen.findByText(/The page behind is as you left it/);
  expect(jump.closest("[inert]")).not.toBeNull();
  away = true;
  signedOut.dispatchEvent(new Event("out"));
  await page.settled();
  expect(jump.closest("[inert]"), "nobody sees the page while nothing answers").not.toBeNull();
  away = false;
  await page.write(screen.getByLabelText("Admin key"), "porch_admin_right{Enter}");
  await waitFor(() => expect(screen.queryByLabelText("Admin key")).toBeNull());
  expect(jump.isConnected && jump.closest("[inert]") === null).toBe(true);
  expect(jump.value).toBe("198.18.3.40 and a half");
});

it("asks again for what could not be loaded until it is there", async () => {
  let away = true;
  const page = open("/lookup", { rules: [on("GET", "/v1/atlas", () => (away ? "gone" : undefined))] });
  await page.says("Could not be loaded, and so not shown: the atlas.");
  away = false;
  await waitFor(() => expect(page.text()).not.toContain("Could not be loaded"));
});

it("says that nothing answers, and opens when it does again", async () => {
  let away = true;
  const page = open("/lookup", { rules: [() => (away ? "gone" : undefined)] });
  await page.says("The console could not be loaded.");
  expect(page.text()).toContain("Retrying automatically.");
  away = false;
  await page.user.click(screen.getByRole("button", { name: "Try again" }));
  await page.says("Ask for any address.");
});

it("lets nobody export while presenting", async () => {
  const page = open("/visits");
  await page.settled();
  const button = () => screen.getByRole<HTMLButtonElement>("button", { name: /^Export/ });
  expect(button().disabled).toBe(false);
  await page.user.click(screen.getByRole("switch"));
  await waitFor(() => expect(button().disabled).toBe(true));
  await page.user.click(screen.getByRole("switch"));
  await waitFor(() => expect(button().disabled).toBe(false));
});

it("has words for everything that it may fail to load", () => {
  const text = ["queries.ts", "atlas.ts", "gate.ts", "links.ts", "companions.ts", "notices.ts"]
    .map((name) => readFileSync(join(import.meta.dirname, "../api", name), "utf8"))
    .join("");
  const keys = [...text.matchAll(/queryKey: \["([^"]+)"/g)].map((m) => m[1]).filter((key) => key !== "sites");
  expect(keys.length).toBeGreaterThan(20);
  expect(Object.keys(names).sort()).toEqual([...new Set(keys)].sort());
});

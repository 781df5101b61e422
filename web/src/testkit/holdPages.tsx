import { screen } from "@testing-library/react";
import { describe, expect, it } from "vitest";
import { setVeiled } from "../features/presentation/veil";
import { on, open, problem } from "./console";
import type { Asked } from "./answers";

const nameOf = (a: Asked) => `${a.method} ${a.path}?${a.query.toString()}`;

/** asked are the calls of a page that is open, each once, but that for the sites. */
async function asked(path: string): Promise<Map<string, Asked>> {
  const page = open(path);
  await page.settled();
  page.close();
  return new Map(page.asked.filter((a) => a.path !== "/v1/sites").map((a) => [nameOf(a), a]));
}

/** bare asks for nothing but what stands around every page. */
const bare = "/lookup/many";

/** asksFor are the calls of a page; those that are made around every page are the bare page's, and its own where it says so. */
async function asksFor(path: string, own: string[]) {
  const calls = await asked(path);
  if (path !== bare)
    for (const [name, call] of await asked(bare)) if (!own.includes(call.path)) calls.delete(name);
  return calls;
}

/**
 * holdPages holds pages against what every page must do; with each stand the paths that it asks for
 * itself, though they are asked around every page too. They are in several files, which run beside one another.
 */
export const holdPages = (pages: Record<string, string[]>) =>
  describe.each(Object.entries(pages))("%s", (path, own) => {
    it("has all it asks for, a title, and a name for every control", async () => {
      const page = open(path);
      await page.settled();
      page.answered();
      expect(document.title).toMatch(/ · East Porch$/);
      expect(page.root.querySelectorAll("h1")).toHaveLength(1);
      expect(screen.queryAllByRole("alert")).toEqual([]);
      for (const role of ["link", "button", "textbox", "combobox", "spinbutton", "checkbox", "switch"]) {
        const nameless = new Set(screen.queryAllByRole(role));
        for (const named of screen.queryAllByRole(role, { name: /\S/ })) nameless.delete(named);
        expect([...nameless].map((c) => c.outerHTML)).toEqual([]);
      }
      expect(screen.queryAllByRole("button").length).toBeGreaterThan(2);
      expect(ids(page.root).filter((id, i, all) => id !== "test-id" && all.indexOf(id) !== i)).toEqual([]);
    });

    it("says so, whichever of its calls fails", async () => {
      const silent: string[] = [];
      for (const [name, call] of await asksFor(path, own)) {
        const fails = on(call.method, call.path, (a) =>
          nameOf(a) === name ? problem(503, "Made to fail.") : undefined,
        );
        const page = open(path, { rules: [fails] });
        await page.settled();
        if (!unknown.test(page.text())) silent.push(name);
        page.close();
      }
      expect(silent).toEqual([]);
    });

    it("shows no address while presenting", async () => {
      setVeiled(true);
      const page = open(path);
      await page.settled();
      setVeiled(false);
      for (const field of page.root.querySelectorAll("[placeholder]")) field.removeAttribute("placeholder");
      expect(page.root.innerHTML.match(address)).toEqual(null);
    });
  });

const address = /198\.18\.\d+\.\d+|198\.51\.100\.\d+|203\.0\.113\.\d+|2001:db8:[0-9a-f]*:[0-9a-f:]+/;

/** unknown is how pages say that something is not known. */
const unknown =
  /[Cc]ould not|did not|does not answer|no card|not known|is away|no answer|503 in|Made to fail/;

const ids = (root: Element) => [...root.querySelectorAll("[id]")].map((e) => e.id);

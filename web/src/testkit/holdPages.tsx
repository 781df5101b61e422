import { screen } from "@testing-library/react";
import { describe, expect, it } from "vitest";
import { setVeiled } from "../features/presentation/veil";
import { on, open, problem } from "./console";
import type { Asked } from "./answers";

const nameOf = (a: Asked) => `${a.method} ${a.path}?${a.query.toString()}`;

/** asksFor are the calls of a page that is open, each once, but those for the sites and the drawings of the world. */
async function asksFor(path: string): Promise<Map<string, Asked>> {
  const page = open(path);
  await page.settled();
  page.close();
  const own = page.asked.filter((a) => a.path !== "/v1/sites" && !a.path.includes("world-atlas"));
  return new Map(own.map((a) => [nameOf(a), a]));
}

/** holdPages holds pages against what every page must do. They are in several files, which run beside one another. */
export const holdPages = (pages: string[]) =>
  describe.each(pages)("%s", (path) => {
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
      for (const [name, call] of await asksFor(path)) {
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

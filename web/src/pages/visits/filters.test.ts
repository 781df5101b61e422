import { describe, expect, it } from "vitest";
import { toQuery, words } from "./filters";

const query = (text: string) => toQuery(new URLSearchParams(text));

describe("filters in the page's address", () => {
  it("become the query of the service", () => {
    expect(query("country_code=pt&city=Lisbon&level=city&skipped=false&path=/programme")).toEqual({
      country_code: "PT",
      city: "Lisbon",
      level: "city",
      skipped: false,
      path: "/programme",
    });
    expect(query("visit=1&nonsense=2")).toEqual({});
  });

  it("cut times to the minute, so that the query stays the same for a while", () => {
    const from = query("since=day").from ?? "";
    expect(from).toMatch(/:00\.000Z$/);
    expect(Date.now() - Date.parse(from)).toBeGreaterThanOrEqual(24 * 3600 * 1000);
    expect(query("since=forever").from).toBeUndefined();
  });

  it("are said in words", () => {
    expect(words("country_code", "PT")).toBe("Portugal");
    expect(words("country_code", "not a code")).toBe("not a code");
    expect(words("skipped", "false")).toBe("left out");
    expect(words("since", "week")).toBe("7 days ago");
  });
});

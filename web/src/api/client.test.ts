// @vitest-environment jsdom
import { afterEach, beforeEach, describe, expect, it } from "vitest";
import { setNetwork } from "../testkit/network";
import { setVeiled } from "../features/presentation/veil";
import { accomplish, api, placeOf, Refusal, timed, unwrap, type ReportRow } from "./client";
import { pauseAfter } from "./queries";

const json = (status: number, body: unknown, type = "application/json") =>
  new Response(typeof body === "string" ? body : JSON.stringify(body), {
    status,
    headers: { "Content-Type": type },
  });

/** refusal is what a call was refused with. */
async function refusal(call: Promise<unknown>): Promise<Refusal> {
  const error = await call.then(
    () => null,
    (e: unknown) => e,
  );
  expect(error).toBeInstanceOf(Refusal);
  return error as Refusal;
}

let asked: Request[] = [];
const answer = (make: () => Response | Promise<Response>) =>
  setNetwork(async (request) => {
    asked.push(request.clone());
    return await make();
  });
beforeEach(() => (asked = []));
afterEach(() => setVeiled(false));

describe("an answer", () => {
  it("is its data", async () => {
    answer(() => json(200, { sites: [] }));
    expect(await unwrap(api.GET("/v1/sites"))).toEqual({ sites: [] });
    expect(asked[0]?.headers.get("Accept")).toBe("application/json");
  });

  it("is nothing where the service answers nothing", async () => {
    answer(() => new Response(null, { status: 204 }));
    await accomplish(api.DELETE("/v1/sessions/{id}", { params: { path: { id: "s1" } } }));
  });

  it.each([
    [
      "a problem",
      json(
        422,
        { type: "/problems/x", title: "No", detail: "d", hint: "h", request_id: "r" },
        "application/problem+json",
      ),
      ["No", "d", "h", "r", 422],
    ],
    [
      "a part of one",
      json(500, { title: "Broken" }, "application/problem+json"),
      ["Broken", "It answered 500.", "", "", 500],
    ],
    [
      "text of a proxy",
      json(502, "<h1>Bad gateway</h1>", "text/html"),
      ["The service refused", "It answered 502.", "", "", 502],
    ],
    [
      "nothing at all",
      new Response(null, { status: 500 }),
      ["The service refused", "It answered 500.", "", "", 500],
    ],
  ])("that is %s is a refusal with words", async (_, response, [title, detail, hint, id, status]) => {
    answer(() => response);
    const { problem } = await refusal(unwrap(api.GET("/v1/sites")));
    expect([problem.title, problem.detail, problem.hint, problem.request_id, problem.status]).toEqual([
      title,
      detail,
      hint,
      id,
      status,
    ]);
  });

  it("that does not come is a refusal with the way to look", async () => {
    answer(() => Promise.reject(new TypeError("fetch failed")));
    const { problem } = await refusal(unwrap(api.GET("/v1/sites")));
    expect([problem.status, problem.type]).toEqual([0, "/problems/unreachable"]);
    expect(problem.hint).toContain("Check that the service runs");
  });

  it("that breaks off is a refusal too", async () => {
    answer(() => json(200, '{"sites": [{"ho'));
    await refusal(unwrap(api.GET("/v1/sites")));
  });

  it("that nobody waits for any more is no refusal", async () => {
    answer(() => Promise.reject(new DOMException("gone", "AbortError")));
    await expect(unwrap(api.GET("/v1/sites"))).rejects.toThrow(DOMException);
  });
});

describe("while presenting", () => {
  it("what comes in is hidden, and what goes out is what it stands for", async () => {
    setVeiled(true);
    answer(() => json(200, { visits: [{ peer: "198.18.3.40", path: "/from/198.18.3.40" }] }));
    const list = (await unwrap(api.GET("/v1/visits" as never))) as {
      visits: { peer: string; path: string }[];
    };
    const [visit] = list.visits;
    expect(JSON.stringify(list)).not.toContain("3.40");
    expect(visit?.path).toBe("/from/198.18.••.••");
    await unwrap(api.GET("/v1/addresses/{address}", { params: { path: { address: visit?.peer ?? "" } } }));
    expect(new URL(asked[1]?.url ?? "").pathname).toBe("/v1/addresses/198.18.3.40");
    await unwrap(api.POST("/v1/addresses", { body: { addresses: [visit?.peer ?? ""] } }));
    expect(await asked[2]?.json()).toEqual({ addresses: ["198.18.3.40"] });
  });

  it("errors that repeat what was typed are hidden as well", async () => {
    setVeiled(true);
    answer(() =>
      json(422, { title: "No", detail: "198.18.3.400 is no address", hint: "" }, "application/problem+json"),
    );
    const { problem } = await refusal(unwrap(api.GET("/v1/sites")));
    expect(problem.detail).not.toContain("3.400");
  });

  it("timed answers are hidden in their text", async () => {
    setVeiled(true);
    answer(() => json(200, { address: "198.18.3.40" }));
    const got = await timed("/v1/visitor", new AbortController().signal);
    expect(got.text).not.toContain("3.40");
    expect(got.status).toBe(200);
  });
});

it("asks again ever less often, and at least every four seconds", () => {
  const pauses = Array.from({ length: 12 }, (_, i) => pauseAfter(i + 1));
  expect(pauses).toEqual([...pauses].sort((a, b) => a - b));
  expect(pauses[0]).toBe(2000);
  expect(pauses.at(-1)).toBe(4000);
});

it("has a country's code where a place has no name for it", () => {
  const row = { country_code: "PT", names: { country: null, region: null, city: null }, visits: 3 };
  expect(placeOf(row as unknown as ReportRow).names.country).toBe("PT");
});

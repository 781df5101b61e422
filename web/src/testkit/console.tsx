import { cleanup, configure, render, screen, waitFor } from "@testing-library/react";
import userEvent, { PointerEventsCheckLevel } from "@testing-library/user-event";
import { afterEach, beforeEach, expect, vi } from "vitest";
import { setNetwork } from "./network";
import { Console } from "../Console";
import { answerOf, outlinesOf, type Asked } from "./answers";

configure({ asyncUtilTimeout: 30_000, getElementError: (message) => new Error(message?.slice(0, 500)) });

/** now is when the answers in answers.json were given. */
export const now = new Date("2026-11-28T14:18:30Z");

/** An Answer is what the network of a test gives: JSON and a status, or nothing at all. */
export type Answer = { status?: number; body: unknown } | "gone";
type Rule = (asked: Asked) => Answer | undefined | Promise<Answer | undefined>;

/** problem is a problem document as the service writes it. */
export const problem = (status: number, detail: string, hint = "Ask again."): Answer => ({
  status,
  body: { type: "/problems/made-up", title: "Made up", status, detail, hint, request_id: "r-1" },
});

/** A Stream stands for the live visits; tests send what they like. */
class Stream {
  static all: Stream[] = [];
  isOpen = true;
  onopen?: () => void;
  onerror?: () => void;
  private heard: ((e: { data: string }) => void)[] = [];
  constructor(readonly url: string) {
    Stream.all.push(this);
    queueMicrotask(() => this.onopen?.());
  }
  addEventListener(_: string, hear: (e: { data: string }) => void) {
    this.heard.push(hear);
  }
  send(visit: unknown) {
    for (const hear of this.heard) hear({ data: JSON.stringify(visit) });
  }
  close() {
    this.isOpen = false;
    this.heard = [];
  }
}

/** holdConsole has every test of a file begin with nothing open, and fail where the console complained. */
export function holdConsole() {
  let complaints: { mock: { calls: unknown[][] } };
  beforeEach(() => {
    complaints = vi.spyOn(console, "error").mockImplementation(() => undefined);
  });
  afterEach(() => {
    cleanup();
    document.body.replaceChildren();
    const said = complaints.mock.calls.map((c) => c.map(String).join(" ").slice(0, 500));
    vi.restoreAllMocks();
    vi.unstubAllGlobals();
    vi.useRealTimers();
    // Lists of choices scroll, which nothing does without a layout.
    expect(said.filter((words) => !words.includes("rc-virtual-list"))).toEqual([]);
  });
}

/**
 * open opens the console at a path, on a network of recorded answers; rules come before those. Maps
 * have coarse outlines, unless fine ones are asked for.
 */
export function open(path: string, options: { rules?: Rule[]; width?: number; fine?: boolean } = {}) {
  const asked: Asked[] = [];
  const missing: string[] = [];
  const rules = [...(options.rules ?? [])];
  vi.useFakeTimers({ toFake: ["Date"], now });
  stubBrowser(options.width ?? 1280);
  let running = 0;
  setNetwork(async (request) => {
    running++;
    try {
      return await answered(request);
    } finally {
      running--;
    }
  });
  const answered = async (request: Request) => {
    const url = new URL(request.url);
    const land = outlinesOf(url.pathname, options.fine ?? false);
    if (land !== undefined) return new Response(land, { headers: { "Content-Type": "application/json" } });
    const text = await request.text();
    const call: Asked = {
      method: request.method,
      path: url.pathname,
      query: url.searchParams,
      body:
        request.headers.get("Content-Type") === "application/json"
          ? (JSON.parse(text) as unknown)
          : undefined,
    };
    asked.push(call);
    let answer: Answer | undefined;
    for (const rule of rules) answer ??= await rule(call);
    answer ??= await answerOf(call);
    if (answer === undefined) {
      missing.push(`${call.method} ${url.pathname}${url.search}`);
      answer = problem(404, "No test answers this.");
    }
    if (answer === "gone") throw new TypeError("fetch failed");
    const { status = 200, body } = answer;
    return new Response(status === 204 ? null : JSON.stringify(body), {
      status,
      headers: { "Content-Type": status < 400 ? "application/json" : "application/problem+json" },
    });
  };
  const idle = () =>
    waitFor(
      () => {
        expect(asked).not.toEqual([]);
        expect(running).toBe(0);
        expect([...root.querySelectorAll(".bars")].map((b) => b.getAttribute("aria-label"))).toEqual([]);
      },
      { timeout: 30_000, interval: 20, container: document.createElement("div") }, // looks by time, not at every change
    );
  window.history.replaceState(null, "", path);
  const root = document.createElement("div");
  document.body.replaceChildren(root);
  render(<Console root={root} unstyled />, { container: root });
  const user = userEvent.setup({ pointerEventsCheck: PointerEventsCheckLevel.Never }); // nothing here has styles
  return {
    root,
    close: cleanup,
    asked,
    user,
    /** write puts text into a field at once, and presses Enter where it ends with {Enter}. */
    write: async (field: Element, text: string) => {
      await user.click(field);
      await user.paste(text.replace(/\{Enter\}$/, ""));
      if (text.endsWith("{Enter}")) await user.keyboard("{Enter}");
    },
    /** rule answers before all that stands. */
    rule: (r: Rule) => rules.unshift(r),
    /** sent are the calls of a method to a path. */
    sent: (method: string, to: string) => asked.filter((a) => a.method === method && a.path === to),
    stream: () => Stream.all.at(-1),
    /** streams is how many are open. */
    streams: () => Stream.all.filter((s) => s.isOpen).length,
    /** answered says that everything the page asked for had an answer. */
    answered: () => expect(missing).toEqual([]),
    text: () => root.textContent ?? "",
    /** settled waits until nothing is asked and nothing loads, and stays so while what was queued runs. */
    settled: async () => {
      for (let turns = 0, before = -1; turns < 4;) {
        await idle();
        turns = asked.length === before ? turns + 1 : 0;
        before = asked.length;
      }
    },
    /** says waits until the page says something. */
    says: (words: string | RegExp) =>
      waitFor(() => expect(root.textContent).toMatch(words), { timeout: 30_000 }),
  };
}

/** on answers the calls of a method to a path. */
export const on =
  (method: string, path: string | RegExp, answer: Answer | ((asked: Asked) => Answer | undefined)): Rule =>
  (asked) => {
    const fits = typeof path === "string" ? asked.path === path : path.test(asked.path);
    if (asked.method !== method || !fits) return undefined;
    return typeof answer === "function" ? answer(asked) : answer;
  };

/** dialog finds the dialog with a title. In tests its library gives all titles one id, and so no name that can be asked for. */
export async function dialog(title: string) {
  const found = await screen.findByRole("dialog");
  expect(found.textContent).toContain(title);
  return found;
}

/** stubBrowser has what jsdom lacks. */
function stubBrowser(width: number) {
  Stream.all = [];
  const kept = new Map<string, string>();
  vi.stubGlobal("localStorage", {
    getItem: (k: string) => kept.get(k) ?? null,
    setItem: (k: string, v: string) => kept.set(k, v),
    removeItem: (k: string) => kept.delete(k),
  });
  vi.stubGlobal("matchMedia", (query: string) => {
    const most = /max-width:\s*([\d.]+)px/.exec(query);
    const least = /min-width:\s*([\d.]+)px/.exec(query);
    const matches =
      (most !== null || least !== null) &&
      (most === null || width <= Number(most[1])) &&
      (least === null || width >= Number(least[1]));
    const nothing = () => undefined;
    return {
      matches,
      media: query,
      addEventListener: nothing,
      removeEventListener: nothing,
      addListener: nothing,
      removeListener: nothing,
    };
  });
  vi.stubGlobal(
    "ResizeObserver",
    class {
      observe() {}
      unobserve() {}
      disconnect() {}
    },
  );
  // Everything is laid out as large as the window, so that charts and maps are drawn.
  vi.spyOn(Element.prototype, "clientWidth", "get").mockReturnValue(width);
  vi.spyOn(Element.prototype, "clientHeight", "get").mockReturnValue(600);
  vi.stubGlobal("EventSource", Stream);
  vi.stubGlobal("innerWidth", width);
  Element.prototype.scrollIntoView = () => undefined;
  Element.prototype.scrollTo = () => undefined;
}

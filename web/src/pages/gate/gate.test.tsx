import { fireEvent, screen, waitFor, within } from "@testing-library/react";
import { expect, it } from "vitest";
import type { GateState } from "../../api/client";
import { recordedBody } from "../../testkit/answers";
import { on, open, problem } from "../../testkit/console";
import { findingsAt, moved, without } from "./rules";

const state = recordedBody("GET /v1/gate?site=heronlake.example") as GateState;
const given = (edit: (s: GateState) => void) => {
  const s = structuredClone(state);
  edit(s);
  return on("GET", "/v1/gate", { body: s });
};
const sim = on("POST", "/v1/gate/simulate", {
  body: recordedBody(
    `POST /v1/gate/simulate?site=heronlake.example ${JSON.stringify({ rules: state.live.rules })}`,
  ),
});

const loose = [
  sim,
  on("POST", "/v1/gate/check", { body: { usable: true, rules: state.live.rules, findings: [] } }),
];

it("says each rule in a sentence, in its order, and what everybody else gets", async () => {
  const page = open("/gate");
  await page.settled();
  const rules = [...page.root.querySelectorAll(".gate-rules > li")].map((li) => li.textContent ?? "");
  expect(rules).toHaveLength((state.live.rules.gates[0]?.rules.length ?? 0) + 1);
  expect(rules[0]).toContain("Admit whoever carries the label");
  expect(rules.at(-1)).toContain("Refuse everybody else");
  expect(rules.at(-1)).toContain("Visitor not found: refuse");
});

it("keeps what is changed to itself until it is saved, and sends it whole", async () => {
  const page = open("/gate", { rules: [...loose, on("PUT", "/v1/gate/draft", { status: 204, body: null })] });
  await page.settled();
  expect(screen.getByRole("button", { name: "Save the draft" })).toHaveProperty("disabled", true);
  await page.user.click(screen.getByText("Watch"));
  await page.says("draft");
  expect(page.sent("PUT", "/v1/gate/draft")).toEqual([]);
  await page.user.click(screen.getByRole("button", { name: "Save the draft" }));
  await waitFor(() => expect(page.sent("PUT", "/v1/gate/draft")).toHaveLength(1));
  const body = page.sent("PUT", "/v1/gate/draft")[0]?.body as GateState["live"]["rules"];
  expect(body.gates[0]?.mode).toBe("watch");
  expect(body.gates[1]).toEqual(state.live.rules.gates[1]);
});

it("moves a rule by keyboard, and puts it live with the revision that it was made from", async () => {
  const page = open("/gate", {
    rules: [...loose, on("PUT", "/v1/gate", { body: { ...state.live, revision: 7 } })],
  });
  await page.settled();
  const grip = screen.getByRole("button", { name: /^Rule 1: drag/ });
  fireEvent.keyDown(grip, { key: "ArrowDown" });
  await page.says("draft");
  await page.user.click(screen.getByRole("button", { name: "Put it live" }));
  await page.says("Revision 7 is in force.");
  const body = page.sent("PUT", "/v1/gate")[0]?.body as {
    rules: GateState["live"]["rules"];
    revision: number;
  };
  expect(body.revision).toBe(state.live.revision);
  expect(body.rules.gates[0]?.rules[1]).toEqual(state.live.rules.gates[0]?.rules[0]);
});

it("lets nothing go live that is wrong, and says what is, at its rule", async () => {
  const wrong = {
    severity: "error",
    field: "gates.0.rules.1.countries.0",
    text: '"UK" is not a country code: did you mean GB?',
    hint: "Give alpha-2 codes.",
  };
  const page = open("/gate", {
    rules: [
      sim,
      on("POST", "/v1/gate/check", { body: { usable: false, rules: state.live.rules, findings: [wrong] } }),
    ],
  });
  await page.settled();
  await page.user.click(screen.getByText("Watch"));
  await page.says("did you mean GB?");
  const rule = page.root.querySelectorAll<HTMLElement>(".gate-rules > li")[1];
  expect(within(rule as HTMLElement).getByText(/did you mean GB/)).toBeTruthy();
  expect(screen.getByRole("button", { name: "Put it live" })).toHaveProperty("disabled", true);
  expect(page.text()).not.toContain("No contradiction");
});

it("asks to confirm an allow list that admits nobody", async () => {
  const page = open("/gate", {
    rules: [
      ...loose,
      given((s) => {
        s.draft = { rules: structuredClone(s.live.rules), made_by: "me", made_at: s.live.made_at };
        for (const g of s.draft.rules.gates) g.rules = [];
        s.findings = [];
      }),
      on("PUT", "/v1/gate", { body: { ...state.live, revision: 8 } }),
    ],
  });
  await page.settled();
  const live = screen.getByRole("button", { name: "Put it live" });
  expect(live).toHaveProperty("disabled", true);
  await page.user.click(screen.getByLabelText(/admits nobody, and is meant so/));
  await page.user.click(live);
  await waitFor(() =>
    expect(page.sent("PUT", "/v1/gate")[0]?.body).toMatchObject({ refuse_everybody: true }),
  );
});

it("says when somebody else saved in between, and loses nothing", async () => {
  const page = open("/gate", {
    rules: [...loose, on("PUT", "/v1/gate", problem(409, "The rules were changed by somebody else."))],
  });
  await page.settled();
  await page.user.click(screen.getByText("Watch"));
  await page.user.click(screen.getByRole("button", { name: "Put it live" }));
  await page.says("The rules were changed by somebody else.");
  expect(page.text()).toContain("draft");
});

it("says what is alarming, and that there are no gates where there are none", async () => {
  const page = open("/gate", {
    rules: [
      ...loose,
      given((s) => {
        s.live.rules.gates = [];
        s.alarms = [
          { kind: "refusals", text: "120 requests were refused in the last hour.", now: 120, usual: 8 },
        ];
      }),
    ],
  });
  await page.settled();
  expect(page.text()).toContain("120 requests were refused in the last hour.");
  expect(page.text()).toContain("Everybody is admitted everywhere.");
});

it("finds its way in fields, and leaves out what is empty", () => {
  const at = (field: string) => ({ severity: "error" as const, field, text: field, hint: "" });
  const all = [
    at("gates.0.name"),
    at("gates.0.rules.1.countries.0"),
    at("gates.1.rules.1"),
    at("exceptions.labels.0"),
  ];
  expect(findingsAt(all, 0, null).map((f) => f.field)).toEqual(["gates.0.name"]);
  expect(findingsAt(all, 0, 1).map((f) => f.field)).toEqual(["gates.0.rules.1.countries.0"]);
  expect(moved(["a", "b", "c"], 0, 2)).toEqual(["b", "c", "a"]);
  expect(without({ rules: [], a: [], b: "", c: {}, d: "x", e: undefined })).toEqual({ rules: [], d: "x" });
});

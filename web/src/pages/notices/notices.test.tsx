import { fireEvent, screen, waitFor, within } from "@testing-library/react";
import { expect, it } from "vitest";
import type { Channel, Message, Notice, NoticeList, NoticeSaid } from "../../api/notices";
import { recordedBody } from "../../testkit/answers";
import { dialog, on, open, problem } from "../../testkit/console";
import { digestWords, fresh, limitWords, outcome, quietWords, reshaped, when, where } from "./words";

const list = recordedBody("GET /v1/notices?site=heronlake.example") as NoticeList;
const first = list.notices.find((n) => n.name === "first-visit") as Notice;
const given = (edit: (l: NoticeList) => NoticeList) => on("GET", "/v1/notices", { body: edit(list) });
const message = (part: Partial<Message>): Message => ({
  id: "01a22606-5f41-70e1-9f0c-aabad76d1ff4",
  time: "2026-11-28T12:00:00Z",
  site: "heronlake.example",
  notice: "first-visit",
  channel: "mail",
  kind: "mail",
  subject: "First visit from Kenya",
  to: ["r•••@heronlake.example", "i•••@heronlake.example"],
  state: "waiting",
  result: "",
  attempts: 0,
  attempts_most: 6,
  next_try: null,
  finished: null,
  test: false,
  again_of: null,
  ...part,
});
const sums = { delivered: 64, waiting: 1, failed: 2, dropped: 0, left_out: 7, held: 3 };
const messages = (all: Message[]) =>
  on("GET", "/v1/messages", { body: { site: "heronlake.example", messages: all, next: null, sums } });
const saidOf = (body: unknown) => (body as { said: NoticeSaid }).said;

it("says when, how often and when not", () => {
  const said = first.said;
  expect(when(said).what).toBe("a country not seen for 90 days");
  expect(
    when({ ...said, trigger: { kind: "label", labels: ["office", "attic"], category: "weather.storm" } })
      .what,
  ).toBe("the label office or attic, while it is weather.storm there");
  expect(when({ ...said, trigger: { kind: "refusals", times: 3, least: 30 } }).what).toMatch(
    /^3 times as many/,
  );
  expect(limitWords(said)).toBe("one a country a day");
  expect(limitWords({ ...said, limit: { most: 100, every: "hour", each: false } })).toBe("100 an hour");
  expect(quietWords({ ...said, quiet: null })).toBe("never");
  const quiet = { from: "22:00", to: "07:00", then: "digest" as const };
  expect([quietWords({ ...said, quiet }), digestWords({ ...said, quiet })]).toEqual([
    "22:00 to 07:00",
    "one digest",
  ]);
  expect(quietWords({ ...said, quiet: { ...quiet, from: "07:00" } })).toBe("all day");
});

it("says what became of a message", () => {
  const again = { attempts: 1, next_try: "2026-11-28T12:06:00Z" };
  expect(
    outcome(message({ result: "the mail server said 451 4.7.1 Greylisted, later", ...again })).text,
  ).toMatch(/^greylisted, again .*\d\d:06$/);
  expect(outcome(message({ state: "failed", result: "the webhook answered 410, gone for good" }))).toEqual({
    tone: "bad",
    text: "410, gone for good",
  });
  expect(
    outcome(
      message({ state: "failed", result: "1 of 3 refused: the mail server said 552 5.2.2 Mailbox full" }),
    ).text,
  ).toBe("1 of 3 refused: 552 5.2.2 Mailbox full");
  expect(outcome(message({ state: "dropped", result: "dropped by hand" })).text).toBe("dropped");
  expect(outcome(message({})).text).toBe("waiting");
});

it("takes another layout for another kind, unless it was written by hand", () => {
  const begun = fresh("country", "mail", true);
  const asked = reshaped(begun, "asked", true);
  expect([asked.subject, asked.to, asked.quiet]).toEqual(["Where {{.question}} is", ["{{.asker}}"], null]);
  const own = reshaped({ ...begun, text: "my own {{.country}}" }, "refusals", true);
  expect(own.text).toBe("my own {{.country}}");
  expect(own.trigger).toEqual({ kind: "refusals", times: 3, least: 30 });
});

it("says where a channel leads", () => {
  const at = (said: Channel["said"]) => where({ said } as Channel);
  expect(at({ kind: "mail", server: "smtp.heronlake.example:465", security: "tls" })).toBe(
    "smtp.heronlake.example, TLS",
  );
  expect(at({ kind: "webhook", url: "https://hooks.crew.example/x" })).toBe("hooks.crew.example, signed");
  expect(at({ kind: "webhook", url: "https://" })).toBe("https://, signed");
});

it("shows what was sent, drops what waits and sends again what failed", async () => {
  const drop = on("DELETE", "/v1/messages/m-1", { status: 204, body: null });
  const resend = on("POST", "/v1/messages/m-2/resend", { status: 202, body: message({ id: "m-3" }) });
  const page = open("/notices?notice=first-visit", {
    rules: [
      messages([
        message({ id: "m-1" }),
        message({
          id: "m-2",
          state: "failed",
          attempts: 1,
          result: "the webhook answered 410, gone for good",
        }),
      ]),
      drop,
      resend,
    ],
  });
  await page.settled();
  const sent = screen.getByRole("region", { name: "Sent" });
  expect(sent.textContent).toContain(
    "Sent the last 7 days: 64 delivered, 1 waiting, 2 failed, 3 held by quiet times, 7 left out by limits",
  );
  expect(within(sent).getAllByRole("row")[1]?.textContent).toContain("r•••@heronlake.example +1");
  fireEvent.click(within(sent).getByRole("button", { name: "Drop" }));
  fireEvent.click(within(sent).getByRole("button", { name: "Resend" }));
  await page.says("It waits to be sent again.");
  expect(page.asked.filter((a) => a.path.startsWith("/v1/messages/m-")).map((a) => a.method)).toEqual([
    "DELETE",
    "POST",
  ]);
});

it("puts facts where the caret is, and says something else where one is missing", async () => {
  const page = open("/notices?notice=first-visit");
  await page.settled();
  const area = screen.getByRole<HTMLTextAreaElement>("textbox", { name: "Layout as text" });
  area.focus();
  const at = area.value.indexOf("{{.city}}") + 3;
  area.setSelectionRange(at, at);
  fireEvent.select(area);
  fireEvent.click(screen.getByRole("button", { name: /line is dropped when missing/ }));
  fireEvent.click(await screen.findByText("says something else when missing"));
  await waitFor(() => expect(area.value).toContain('{{or .city "unknown"}}'));
  area.setSelectionRange(area.value.length, area.value.length);
  fireEvent.select(area);
  fireEvent.click(screen.getByRole("button", { name: "Fact" }));
  fireEvent.click(await screen.findByText("postal_code"));
  await waitFor(() => expect(area.value).toMatch(/\{\{\.postal_code\}\}$/));
});

it("saves what was changed, with the revision that it was, and says why not", async () => {
  const refuses = on(
    "PUT",
    "/v1/notices/first-visit",
    problem(409, "It was changed meanwhile.", "Read it again."),
  );
  const page = open("/notices?notice=first-visit", { rules: [refuses] });
  await page.settled();
  const save = screen.getByRole<HTMLButtonElement>("button", { name: "Save" });
  expect(save.disabled).toBe(true);
  fireEvent.change(screen.getByRole("textbox", { name: "Subject" }), {
    target: { value: "New:\n{{.country}}" },
  });
  fireEvent.click(save);
  await page.says("It was changed meanwhile. Read it again.");
  const put = page.asked.find((a) => a.method === "PUT");
  expect(saidOf(put?.body).subject).toBe("New: {{.country}}");
  expect((put?.body as { revision: number }).revision).toBe(first.revision);
});

it("opens a choice by keyboard, and comes back", async () => {
  const page = open("/notices?notice=first-visit");
  await page.settled();
  const limit = screen.getByRole("button", { name: "At most: one a country a day" });
  fireEvent.click(limit);
  const many = await screen.findByRole("spinbutton", { name: "How many" });
  await waitFor(() => expect(document.activeElement).toBe(many));
  fireEvent.change(many, { target: { value: "3" } });
  fireEvent.keyDown(many, { key: "Escape" });
  await waitFor(() => expect(document.activeElement).toBe(limit));
  expect(limit.textContent).toBe("3 a country a day");
});

it("begins with a channel, whose secret is sent once and not kept on the page", async () => {
  const none = given((l) => ({ ...l, notices: [], channels: [] }));
  const saved = on("PUT", "/v1/channels/webhook", {
    body: list.channels.find((c) => c.said.kind === "webhook"),
  });
  const page = open("/notices", { rules: [none, saved] });
  await page.says("No channel yet");
  fireEvent.click(screen.getByRole("button", { name: "Add a channel" }));
  const form = within(await dialog("New channel"));
  fireEvent.click(form.getByText("Webhook"));
  fireEvent.change(form.getByLabelText("Address"), { target: { value: "https://hooks.crew.example/porch" } });
  fireEvent.click(form.getByRole("button", { name: "Make one" }));
  fireEvent.click(form.getByRole("button", { name: "Save" }));
  await page.says("Send a test to see whether it arrives.");
  const body = page.asked.find((a) => a.method === "PUT")?.body as { new_secret: string; said: unknown };
  expect(body.new_secret).toMatch(/^[0-9a-f]{64}$/);
  expect(body.said).toEqual({ kind: "webhook", url: "https://hooks.crew.example/porch" });
});

it("says which channel fails, here and in the rail", async () => {
  const failing = given((l) => ({
    ...l,
    channels: l.channels.map((c) => ({
      ...c,
      standing: c.said.kind === "mail" ? ("fails" as const) : ("gone" as const),
      reason: "the mail server did not answer in time",
      next_try: "2026-11-28T15:00:00Z",
    })),
    notices: l.notices.map((n) => ({ ...n, standing: "attention" as const, reason: "552 Mailbox full" })),
  }));
  const page = open("/notices?notice=first-visit", { rules: [failing] });
  await page.settled();
  const channels = screen.getByRole("region", { name: "Channels" });
  expect(channels.textContent).toContain("fails");
  expect(channels.textContent).toContain("410 gone");
  expect(channels.textContent).toContain("the mail server did not answer in time, again ");
  expect(screen.getAllByText("needs a look")).toHaveLength(list.notices.length);
  expect(screen.getByRole("img", { name: "one needs a look" })).toBeTruthy();
});

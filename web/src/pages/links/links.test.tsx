import { screen, waitFor, within } from "@testing-library/react";
import dayjs from "dayjs";
import { expect, it } from "vitest";
import type { LinkReport, TrackedLink } from "../../api/links";
import { recordedBody } from "../../testkit/answers";
import { dialog, on, open, problem } from "../../testkit/console";
import { leadsTo, leftOut, placeWords, stand, visitsOf, wholeStand } from "./words";

const report = recordedBody("GET /v1/links/tickets/clicks?days=7") as LinkReport;
const link = report.of.link;
const given = (part: Partial<TrackedLink>): TrackedLink => ({ ...link, ...part });
const now = dayjs("2026-11-28T12:00:00Z");

it("says how a link stands", () => {
  expect(stand(link, now)).toMatchObject({ word: "active", kind: "ok", more: "" });
  expect(stand(given({ limit: 500, used: 461 }), now)).toMatchObject({
    word: "39 clicks left",
    kind: "attention",
  });
  expect(stand(given({ limit: 500, used: 10 }), now)).toMatchObject({ word: "active", more: "limit 500" });
  expect(stand(given({ state: "limit", limit: 5, used: 5 }), now).word).toBe("at its limit");
  expect(stand(given({ until: "2026-11-28T20:00:00Z" }), now)).toMatchObject({
    word: "expires today",
    kind: "attention",
  });
  expect(stand(given({ until: "2026-12-28T20:00:00Z" }), now).more).toMatch(/^until 2\d Dec 2026$/);
  expect(stand(given({ state: "disabled", since: "2026-11-12T10:00:00Z" }), now).more).toBe(
    "since 12 Nov 2026",
  );
  expect(wholeStand(given({ state: "expired", since: "2026-10-31T10:00:00Z" }), now)).toContain(
    "answers 410",
  );
  expect(wholeStand(link, now)).toBe("active, no end, no limit; answers 302");
});

it("says by what the destination depends, and what is left out", () => {
  expect(leadsTo(given({ routes: [] }))).toBe("one for all");
  expect(leadsTo(link)).toBe("country, language");
  const fr = { countries: [], languages: ["fr"], variants: [], destination: "/x" };
  expect(leadsTo(given({ routes: [fr, { ...fr, languages: ["ja"] }] }))).toBe("3 languages");
  expect(leftOut({ preview: 12, bot: 1, test: 0 }).map((m) => m.words)).toEqual(["1 bot", "12 previews"]);
  expect(visitsOf("tickets", { mark: "bot" })).toBe("/visits?link=tickets&path=%2Fto%2Ftickets&mark=bot");
  expect(leftOut({})).toEqual([]);
  const place = {
    level: "skipped",
    country_code: null,
    region_code: null,
    city: null,
    latitude: null,
    longitude: null,
    radius_km: null,
    time_zone: null,
  };
  expect(placeWords({ place, name: null, placeholder: "club-house", clicks: 3 })).toBe("club-house");
  expect(placeWords({ place, name: null, placeholder: null, clicks: 3 })).toBe("skipped");
});

it("shows the statistics of the link that is open, and opens another", async () => {
  const page = open("/links?link=tickets");
  await page.settled();
  const panel = screen.getByRole("region", { name: "Link tickets" });
  expect(panel.textContent).toContain("Posters in the towns");
  expect(panel.textContent).toContain("left out");
  for (const row of report.of.places.slice(0, 3)) expect(panel.textContent).toContain(placeWords(row));
  expect(
    within(panel)
      .getByRole("img", { name: /QR code of/ })
      .getAttribute("src"),
  ).toBe("/v1/links/tickets/qr.svg");
  await page.user.click(screen.getByRole("button", { name: "early" }));
  await waitFor(() => expect(page.asked.some((a) => a.path === "/v1/links/early/clicks")).toBe(true));
});

it("makes a link with what stands in the form, and says what is wrong with it", async () => {
  let refuse = true;
  const page = open("/links?link=tickets", {
    rules: [
      on("POST", "/v1/links", () =>
        refuse
          ? problem(422, "destination: it leads to a link.", "Give where that link leads.")
          : { status: 201, body: link },
      ),
    ],
  });
  await page.settled();
  await page.user.click(screen.getByRole("button", { name: /New link/ }));
  const form = await dialog("New link");
  expect(within(form).getByRole("button", { name: "Make the link" })).toHaveProperty("disabled", true);
  await page.write(within(form).getByLabelText("Leads to"), "/to/x");
  await page.write(within(form).getByLabelText("Code"), "tickets");
  await page.user.click(within(form).getByRole("button", { name: /Add a route/ }));
  await page.write(within(form).getByLabelText("Countries of route 1"), "PT, Brazil");
  await page.write(within(form).getByLabelText("Destination of route 1"), "/pt");
  await page.user.click(within(form).getByRole("button", { name: "Make the link" }));
  await waitFor(() => expect(form.textContent).toContain("it leads to a link"));
  refuse = false;
  await page.user.click(within(form).getByRole("button", { name: "Make the link" }));
  await page.says("is followed from now on");
  expect(page.sent("POST", "/v1/links").at(-1)?.body).toMatchObject({
    site: "heronlake.example",
    code: "tickets",
    destination: "/to/x",
    status: 302,
    until: null,
    limit: null,
    routes: [{ countries: ["PT", "Brazil"], languages: [], variants: [], destination: "/pt" }],
  });
});

it("disables a link, and says what it answers then", async () => {
  const page = open("/links?link=tickets", {
    rules: [
      on("PATCH", "/v1/links/tickets", { body: given({ state: "disabled", since: "2026-11-28T12:00:00Z" }) }),
    ],
  });
  await page.settled();
  await page.user.click(screen.getByRole("button", { name: "Disable" }));
  await page.says("tickets is disabled; it answers 410.");
  expect(page.sent("PATCH", "/v1/links/tickets").map((a) => a.body)).toEqual([{ disabled: true }]);
});

it("says what to do where there are no links", async () => {
  const page = open("/links", {
    rules: [
      on("GET", "/v1/links", {
        body: { links: [], next: null, all: 0, active: 0, asked: [], asked_others: 0 },
      }),
    ],
  });
  await page.settled();
  await page.says("No links yet");
  expect(screen.getAllByRole("button", { name: "Make a link" })).toHaveLength(1);
});

it("puts another link beside it", async () => {
  const other = structuredClone(report.of);
  other.link.code = "programme";
  const asked: string[] = [];
  const page = open("/links?link=tickets", {
    rules: [
      on("GET", "/v1/links/tickets/clicks", (a) => {
        const compare = a.query.get("compare");
        if (compare) asked.push(compare);
        return { body: { ...report, compared: compare ? other : null } };
      }),
    ],
  });
  await page.settled();
  await page.user.click(screen.getByRole("button", { name: "Compare" }));
  await waitFor(() => expect(asked).toEqual(["programme"]));
  const table = await waitFor(() => {
    const heads = [...page.root.querySelectorAll(".link-table th")].map((th) => th.textContent);
    expect(heads).toEqual(["Location", "Level", "Within", "tickets", "programme"]);
    return page.root.querySelector(".link-table") as HTMLElement;
  });
  const first = report.of.places[0];
  expect(within(table).getAllByRole("row")[1]?.textContent).toContain(`${first?.clicks}${first?.clicks}`);
});

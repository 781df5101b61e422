import { screen, waitFor } from "@testing-library/react";
import { expect, it, vi } from "vitest";
import type { Card } from "../../api/client";
import { recordedBody } from "../../testkit/answers";
import { type Answer, open, problem } from "../../testkit/console";

const card = recordedBody("GET /v1/addresses/198.18.3.40") as Card;

const addressesOf = (body: unknown) => (body as { addresses: string[] }).addresses;

const answers = (body: unknown): Answer => ({
  body: {
    addresses: addressesOf(body).map((input) =>
      /^\d+\.\d+\.\d+\.\d+$/.test(input)
        ? {
            input,
            spelling: null,
            problem: null,
            card: { ...card, address: { ...card.address, text: input } },
          }
        : { input, spelling: null, card: null, problem: `"${input}": it is no address` },
    ),
  },
});

const numbered = (n: number) =>
  Array.from({ length: n }, (_, i) => `198.18.${Math.floor(i / 250)}.${i % 250}`);

/** second is the first address of the second part of a list. */
const second = numbered(501)[500];

/** shown has the page, and what it saves as files. What is asked for goes by its first address: React asks twice for the first of all. */
function shown(answer: (body: unknown, first: string | undefined) => Answer | Promise<Answer>) {
  const page = open("/lookup/many");
  page.rule((a) => (a.path === "/v1/addresses" ? answer(a.body, addressesOf(a.body)[0]) : undefined));
  const files: { name: string; text: Promise<string> }[] = [];
  let blob = new Blob();
  vi.stubGlobal(
    "URL",
    Object.assign(URL, {
      createObjectURL: (b: Blob) => ((blob = b), "blob:x"),
      revokeObjectURL: () => undefined,
    }),
  );
  vi.spyOn(HTMLAnchorElement.prototype, "click").mockImplementation(function (this: HTMLAnchorElement) {
    files.push({ name: this.download, text: blob.text() });
  });
  const give = async (name: string, text: string) =>
    page.user.upload(await screen.findByLabelText("File of addresses"), new File([text], name));
  const asked = () => {
    const parts = page.sent("POST", "/v1/addresses").map((a) => addressesOf(a.body));
    return parts.filter((p, i) => i === 0 || p[0] !== parts[0]?.[0]).map((p) => p.length);
  };
  return { ...page, files, give, asked };
}

it("asks for a long list a part at a time, in its order, and saves every line", async () => {
  const page = shown(answers);
  const list = numbered(1201);
  await page.give("visitors.txt", `\ufeff${list.join("\r\n")}\r\n\r\n`);
  await page.says("1,201 of 1,201 lines");
  expect(page.asked()).toEqual([500, 500, 201]);
  expect(page.text()).toContain("The first 500 are shown; the download has all.");
  await page.user.click(screen.getByRole("button", { name: "Download" }));
  expect(page.files[0]?.name).toBe("answers.csv");
  const lines = (await page.files[0]?.text)?.trim().split("\r\n") ?? [];
  expect(lines).toHaveLength(1202);
  expect(lines.slice(1).map((l) => l.split(",")[2])).toEqual(list);
});

it("goes on where it failed, and says until then that it is not whole", async () => {
  let away = true;
  const page = shown((body, first) =>
    away && first === second ? problem(503, "Away for a moment.") : answers(body),
  );
  await page.give("visitors.txt", numbered(700).join("\n"));
  await page.says("The answer was cut short.");
  expect(page.text()).toContain("500 of 700 lines");
  await page.user.click(screen.getByRole("button", { name: "Download so far" }));
  expect(page.files[0]?.name).toBe("answers-so-far.csv");
  away = false;
  await page.user.click(screen.getByRole("button", { name: "Go on" }));
  await page.says("700 of 700 lines");
  expect(page.text()).not.toContain("cut short");
  expect(page.asked()).toEqual([500, 200, 200]);
});

it("stops when told to, and what was saved then has the name of a part", async () => {
  let release: (() => void) | undefined;
  const page = shown((body, first) =>
    first === second ? new Promise((done) => (release = () => done(answers(body)))) : answers(body),
  );
  await page.give("visitors.txt", numbered(900).join("\n"));
  await page.says("500 of 900 lines");
  await page.user.click(screen.getByRole("button", { name: "Stop here" }));
  await waitFor(() => expect(release).toBeTruthy());
  release?.();
  await page.user.click(screen.getByRole("button", { name: "Download so far" }));
  expect(page.files[0]?.name).toBe("answers-so-far.csv");
  expect((await page.files[0]?.text)?.trim().split("\r\n")).toHaveLength(501);
  await page.user.click(screen.getByRole("button", { name: "Another list" }));
  await page.says("Ask for many addresses at once.");
});

it("pauses, and goes on without asking for anything twice that it has", async () => {
  let release: (() => void) | undefined;
  const page = shown((body, first) =>
    first === second && !release
      ? new Promise((done) => (release = () => done(answers(body))))
      : answers(body),
  );
  await page.give("visitors.txt", numbered(900).join("\n"));
  await page.says("500 of 900 lines");
  await page.user.click(screen.getByRole("button", { name: "Pause" }));
  await page.says("paused");
  release?.();
  await page.user.click(screen.getByRole("button", { name: "Go on" }));
  await page.says("900 of 900 lines");
  expect(page.text()).toContain("900 lines answered, 900 different addresses.");
});

it("reads a table by the column that it is told", async () => {
  const page = shown(answers);
  await page.give(
    "table.csv",
    'seen,from,"by, whom"\n198.18.3.40,198.18.3.41,"Ana, Bo"\n198.18.3.42,198.18.3.43,Cy\n',
  );
  await page.says("2 of 2 lines");
  expect(page.text()).toContain("read as columns parted by commas with a head, address in “seen”");
  await page.user.click(screen.getByRole("button", { name: "Change" }));
  await page.user.click(screen.getByLabelText("Column of the addresses"));
  expect(await screen.findByText("by, whom")).toBeTruthy();
  await page.user.click(screen.getByText("from"));
  await page.says("address in “from”");
  await waitFor(() =>
    expect(addressesOf(page.sent("POST", "/v1/addresses").at(-1)?.body)).toEqual([
      "198.18.3.41",
      "198.18.3.43",
    ]),
  );
});

it("gathers what is no address by its reason, with the line where each begins, and saves all of it", async () => {
  const page = shown(answers);
  await page.give("mixed.txt", "198.18.3.40\n=nonsense\n198.18.3.41\nmore\n");
  await page.says("4 of 4 lines");
  const rejects = screen.getByRole("region", { name: /^Rejects/ });
  expect(rejects.textContent).toContain("2it is no address=nonsense first on line 2");
  await page.user.click(screen.getByRole("button", { name: "Rejects as a file" }));
  expect(page.files[0]?.name).toBe("rejects.csv");
  expect((await page.files[0]?.text)?.split("\r\n")).toEqual([
    "line,text,reason",
    `2,'=nonsense,"""=nonsense"": it is no address"`,
    `4,more,"""more"": it is no address"`,
    "",
  ]);
  await page.user.click(screen.getByRole("radio", { name: "Rejects" }));
  const lines = [...page.root.querySelectorAll(".many-table tbody tr")].map(
    (tr) => tr.firstChild?.textContent,
  );
  expect(lines).toEqual(["2", "4"]);
});

it("refuses what is too long for a page, with the command for it, and what is empty", async () => {
  const page = shown(answers);
  await page.give("long.txt", "1\n".repeat(200_001));
  expect((await screen.findByRole("alert")).textContent).toContain("eastporch resolve - --output csv");
  await page.give("empty.txt", "\n\n");
  await waitFor(() => expect(screen.getByRole("alert").textContent).toBe("There is no line in it."));
  expect(page.asked()).toEqual([]);
});

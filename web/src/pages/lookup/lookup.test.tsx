import { screen, waitFor } from "@testing-library/react";
import { expect, it } from "vitest";
import type { Card } from "../../api/client";
import { recordedBody } from "../../testkit/answers";
import { on, open, problem } from "../../testkit/console";

const card = recordedBody("GET /v1/addresses/198.18.3.40") as Card;

it("asks for what is typed, and keeps it in the page's address", async () => {
  const page = open("/lookup", { rules: [on("GET", /^\/v1\/addresses\//, { body: card })] });
  await page.says("Ask for any address.");
  await page.write(screen.getByLabelText("Address to look up"), " 198.18.3.40 {Enter}");
  await page.says("Lisbon");
  expect(location.search).toBe("?address=198.18.3.40");
});

it("shows the card as JSON, and as GeoJSON with the longitude first", async () => {
  const page = open("/lookup?address=198.18.3.40");
  await page.settled();
  await page.user.click(screen.getByText("JSON"));
  const json = JSON.parse(screen.getByLabelText("The card as JSON").textContent ?? "") as Card;
  expect(json).toEqual(card);
  await page.user.click(screen.getByText("GeoJSON"));
  const feature = JSON.parse(screen.getByLabelText("The card as GeoJSON").textContent ?? "") as {
    geometry: { coordinates: number[] };
  };
  expect(feature.geometry.coordinates).toEqual([card.location.longitude, card.location.latitude]);
});

it("says what is wrong with an address, and asks again when told to", async () => {
  const page = open("/lookup?address=1.2.3", {
    rules: [on("GET", /^\/v1\/addresses\//, problem(422, "1.2.3 is not an address"))],
  });
  await page.says("There is no card.");
  expect(page.text()).toContain("1.2.3 is not an address");
  page.rule(on("GET", /^\/v1\/addresses\//, { body: card }));
  await page.user.click(screen.getByRole("button", { name: "Try again" }));
  await page.says("Lisbon");
});

it("asks for every range only when told to", async () => {
  const page = open("/lookup?address=198.18.3.40");
  await page.settled();
  page.rule(on("GET", /^\/v1\/addresses\//, { body: card }));
  await page.user.click(screen.getByRole("button", { name: "Every range" }));
  await screen.findByRole("button", { name: "Only the deciding sources" });
  expect(page.asked.filter((a) => a.query.get("why") === "all")).not.toEqual([]);
});

it("looks many up in the order of the list, and names what is no address", async () => {
  const rules = [
    on("POST", "/v1/addresses", ({ body }) => ({
      body: {
        addresses: (body as { addresses: string[] }).addresses.map((input) =>
          input === "nonsense"
            ? { input, spelling: null, card: null, problem: "nonsense is not an address" }
            : { input, spelling: null, card, problem: null },
        ),
      },
    })),
  ];
  const page = open("/lookup/many", { rules });
  const field = await screen.findByLabelText("List of addresses");
  await page.user.type(field, "198.18.3.40\nnonsense\n198.18.3.40");
  await page.user.click(screen.getByRole("button", { name: "Look them up" }));
  await page.says(/3 of 3 lines/);
  await waitFor(() => expect(page.text()).toContain("nonsense"));
  expect(page.text()).toMatch(/3 lines answered/);
});

it("refuses an empty list", async () => {
  open("/lookup/many");
  const button = await screen.findByRole<HTMLButtonElement>("button", { name: "Look them up" });
  expect(button.disabled).toBe(true);
});

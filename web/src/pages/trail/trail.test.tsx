import { screen, waitFor } from "@testing-library/react";
import { expect, it } from "vitest";
import { on, open, problem } from "../../testkit/console";

it("explains what was pasted, hop by hop, from the peer back", async () => {
  const page = open("/trail");
  await page.settled();
  expect(page.text()).toContain("The visitor is198.18.7.114");
  const hops = [...page.root.querySelectorAll(".bighops > li")].map((li) => li.className);
  expect(hops[0]).toBe("trusted");
  expect(hops).toContain("visitor");
  expect(hops.slice(hops.indexOf("visitor") + 1).every((h) => h === "unverified")).toBe(true);
});

it("asks with what stands in the form, once it is sent", async () => {
  const page = open("/trail");
  await page.settled();
  page.rule(
    on("POST", "/v1/trails", problem(422, "peer is not an address", "Give one such as 203.0.113.4.")),
  );
  const before = page.sent("POST", "/v1/trails").length;
  const peer = screen.getByLabelText(/^Peer/);
  await page.user.clear(peer);
  await page.user.type(peer, "nonsense");
  expect(page.sent("POST", "/v1/trails").length).toBe(before);
  await page.user.click(screen.getByRole("button", { name: "Explain it" }));
  await page.says("The request could not be explained.");
  expect(page.text()).toContain("peer is not an address Give one such as 203.0.113.4.");
  expect(page.sent("POST", "/v1/trails").slice(before)[0]?.body).toMatchObject({ peer: "nonsense" });
  expect(page.text()).not.toContain("not found"); // what failed is no verdict
});

it("tries other settings, shows their lines, and goes back", async () => {
  const page = open("/trail");
  await page.settled();
  const hops = screen.getByRole("spinbutton", { name: "Hops" });
  await page.user.clear(hops);
  await page.user.type(hops, "1");
  await waitFor(() => expect(page.text()).toContain("Back to the current settings"));
  expect(page.root.querySelector(".trail-lines")?.textContent).toMatch(/hops: 1/);
  await page.user.click(screen.getByRole("button", { name: "Back to the current settings" }));
  await waitFor(() => expect(page.root.querySelector(".trail-lines")).toBe(null));
});

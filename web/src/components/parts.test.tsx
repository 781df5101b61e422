import { setVeiled } from "../features/presentation/veil";
import { cleanup, render, screen } from "@testing-library/react";
import { MemoryRouter } from "react-router";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { Card, Trail } from "../api/client";
import { toGeoJSON } from "../pages/lookup/geojson";
import { Addr, KindChip, MiniTrail, Prose } from "./parts";
import { PreferencesProvider } from "./preferences";

const kept = new Map<string, string>();
beforeEach(() => {
  vi.stubGlobal("localStorage", {
    getItem: (k: string) => kept.get(k) ?? null,
    setItem: (k: string, v: string) => kept.set(k, v),
  });
  vi.stubGlobal("matchMedia", () => ({
    matches: false,
    addEventListener: vi.fn(),
    removeEventListener: vi.fn(),
  }));
});
afterEach(() => {
  cleanup();
  kept.clear();
});

const show = (node: React.ReactNode) =>
  render(
    <MemoryRouter>
      <PreferencesProvider>{node}</PreferencesProvider>
    </MemoryRouter>,
  );

const card = (kind: Card["address"]["kind"], skipped: boolean): Card =>
  ({
    address: { text: "198.18.3.40", kind, skipped },
    location: { level: "city", latitude: 38.7, longitude: -9.1, radius_km: 15 },
  }) as Card;

describe("Addr", () => {
  it("links to the look-up", () => {
    show(<Addr text="2001:db8::1" link />);
    expect(screen.getByRole("link", { name: "2001:db8::1" }).getAttribute("href")).toBe(
      "/lookup?address=2001%3Adb8%3A%3A1",
    );
  });

  it("is masked while presenting, and so is prose", () => {
    setVeiled(true);
    const { container } = show(
      <>
        <Addr text="198.18.3.40" link /> <Prose text="Matches 203.0.113.0/28, a trusted proxy." />
      </>,
    );
    expect(container.innerHTML).not.toMatch(/3\.40|113\.0/);
    expect(screen.getByRole("link").getAttribute("href")).toMatch(/^\/lookup\?address=~/);
    setVeiled(false);
  });
});

describe("KindChip", () => {
  it("says what is opened and what is skipped, and nothing of public addresses", () => {
    show(<KindChip card={card("benchmarking", false)} />);
    expect(screen.getByText("benchmarking · opened")).toBeTruthy();
    show(<KindChip card={card("private", true)} />);
    expect(screen.getByText("private · skipped")).toBeTruthy();
    show(<KindChip card={card("tunnel", false)} />);
    expect(screen.getByText("tunnel")).toBeTruthy();
    expect(show(<KindChip card={card("public", false)} />).container.textContent).toBe("");
  });
});

describe("MiniTrail", () => {
  it("says the verdicts in words too", () => {
    const hops = ["trusted", "visitor", "unverified"].map((verdict) => ({ verdict }));
    show(<MiniTrail trail={{ hops } as Trail} />);
    expect(
      screen.getByRole("img", { name: "From the peer: trusted proxy, visitor, unverified" }),
    ).toBeTruthy();
  });
});

describe("toGeoJSON", () => {
  it("puts longitude first", () => {
    expect(toGeoJSON(card("public", false)).geometry).toEqual({ type: "Point", coordinates: [-9.1, 38.7] });
  });
});

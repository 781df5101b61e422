import { describe, expect, it } from "vitest";
import { maskAddress, maskText, shortenV6 } from "./mask";

describe("masking", () => {
  it("hides the host part of addresses and prefixes", () => {
    expect(maskAddress("198.18.3.40")).toBe("198.18.••.••");
    expect(maskAddress("3fff:1a0:7::9")).toBe("3fff:1a0:••••");
    expect(maskAddress("2001:db8::/32")).toBe("2001:db8:••••");
    expect(maskAddress("::1")).toBe(":0:••••");
    expect(maskAddress("whatever")).toBe("••••");
  });

  it("finds them in sentences and JSON, and leaves times alone", () => {
    const text =
      'At 07:42:08 on 2026-11-14T06:42:08Z "198.18.3.0/26" and 2001:db8:5e1:40::1f, ::1 and [2001:db8::1]:443.';
    const masked = maskText(text);
    for (const secret of ["3.0", "5e1", "::1", "::1]"]) expect(masked).not.toContain(secret);
    expect(masked).toContain("07:42:08 on 2026-11-14T06:42:08Z");
    expect(masked).toContain("198.18.••.••");
  });

  it("shortens only what is long", () => {
    expect(shortenV6("2001:db8:5e1:40::1f")).toBe("2001:db8::1f");
    expect(shortenV6("2001:db8::1f")).toBe("2001:db8::1f");
    expect(shortenV6("198.18.3.40")).toBe("198.18.3.40");
  });
});

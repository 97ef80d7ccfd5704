import { describe, expect, it } from "vitest";
import { count, counts, day, detail, duration, pieces, shortDigest, shortNumber, size, time } from "./format";

describe("format", () => {
  it("writes times in UTC without seconds", () => {
    expect(time("2026-11-23T09:05:59Z")).toBe("2026-11-23 09:05");
    expect(time(undefined)).toBe("");
    expect(day("2026-11-23T09:05:59Z")).toBe("2026-11-23");
  });

  it("writes how long something took", () => {
    expect(duration("2026-11-23T09:05:00Z", "2026-11-23T09:06:05Z")).toBe("1 min 5 s");
    expect(duration("2026-11-23T09:05:00Z", "2026-11-23T09:05:59.6Z")).toBe("1 min 0 s");
    expect(duration("2026-11-23T09:05:00Z", "2026-11-23T15:51:48Z")).toBe("6 h 46 min");
    expect(duration("2026-11-23T09:05:00Z", undefined)).toBe("");
    expect(duration(undefined, "2026-11-23T09:05:00Z")).toBe("");
  });

  it("writes counts with the largest first and without zeros", () => {
    expect(counts({ draining: 2, serving: 38, faulty: 0 })).toBe("38 serving, 2 draining");
    expect(counts({ "": 3 })).toBe("3 without a version");
    expect(count(1, "host")).toBe("1 host");
    expect(count(0, "host")).toBe("0 hosts");
    expect(count(2, "person", "people")).toBe("2 people");
  });

  it("writes the detail of a trail entry in a line", () => {
    expect(detail({ people: ["Ida Strand", "Tove Dyke"], let_go: false })).toBe(
      "people Ida Strand, Tove Dyke",
    );
    expect(detail(undefined)).toBe("");
    expect(detail({ expires: "2026-12-01T08:30:15.123456789Z" })).toBe("expires 2026-12-01 08:30:15 UTC");
  });

  it("keeps dates and the names of hosts whole", () => {
    expect(pieces("tc-004 was last heard 2026-11-23 09:05:59 UTC, not in use")).toEqual([
      "",
      "tc-004",
      " was last heard ",
      "2026-11-23 09:05:59 UTC",
      ", not in use",
    ]);
    expect(pieces("up-to-date")).toEqual(["up-to-date"]);
  });

  it("writes numbers of versions short, whatever their numbering", () => {
    expect(shortNumber("2026.11.3")).toBe("26.11.3");
    expect(shortNumber("1.0.0")).toBe("1.0.0");
    expect(shortNumber("20.1.0")).toBe("20.1.0");
    expect(shortNumber("")).toBe("");
  });
  it("writes sizes and digests short", () => {
    expect(size(24 * 2 ** 30)).toBe("24.0 GiB");
    expect(size(0)).toBe("");
    expect(shortDigest(`sha256:${"ab".repeat(32)}`)).toBe("abababababab");
  });
});

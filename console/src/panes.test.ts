import { describe, expect, it } from "vitest";
import { byBatch, lookOfHost, lookOfPhase } from "./panes";

const states = ["starting", "checking", "serving", "draining", "emptied", "rebuilding", "faulty", "off"];
const phases = [
  "queued",
  "draining",
  "warned",
  "emptied",
  "rebuilding",
  "checking",
  "done",
  "failed",
  "left",
];

describe("looks", () => {
  it("tell every state of a host by word and by pattern, not by colour alone", () => {
    const seen = new Set(states.map((s) => lookOfHost(s, false).word));
    expect(seen.size).toBe(states.length);
    expect(lookOfHost("serving", true)).not.toEqual(lookOfHost("serving", false));
    expect(lookOfHost("serving", true).pattern).not.toBe(lookOfHost("serving", false).pattern);
  });

  it("give phases that share a fill different patterns", () => {
    const looks = phases.map(lookOfPhase).map((l) => `${l.fill} ${l.pattern}`);
    expect(new Set(looks).size).toBe(phases.length);
  });
});

describe("byBatch", () => {
  it("puts batches in order and hosts without one last", () => {
    const hosts = [{ batch: 0 }, { batch: 2 }, { batch: 1 }, { batch: 0 }, { batch: 10 }];
    expect(byBatch(hosts).map(([b, list]) => [b, list.length])).toEqual([
      [1, 1],
      [2, 1],
      [10, 1],
      [0, 2],
    ]);
  });
});

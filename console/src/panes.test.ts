import { describe, expect, it } from "vitest";
import { byBatch, type HostState, lookOfHost, lookOfPhase, type Phase, phaseOrder, settled } from "./panes";

const states: HostState[] = [
  "starting",
  "checking",
  "serving",
  "draining",
  "emptied",
  "rebuilding",
  "faulty",
  "off",
];

describe("looks", () => {
  it("tell every state of a host by word, and by fill with pattern, not by colour alone", () => {
    expect(new Set(states.map((s) => lookOfHost(s, false).word)).size).toBe(states.length);
    expect(new Set(states.map((s) => lookOfHost(s, false)).map((l) => `${l.fill} ${l.pattern}`)).size).toBe(
      states.length,
    );
    expect(lookOfHost("serving", true)).not.toEqual(lookOfHost("serving", false));
    expect(lookOfHost("serving", true).pattern).not.toBe(lookOfHost("serving", false).pattern);
    expect(lookOfHost("faulty", true)).toEqual(lookOfHost("faulty", false));
  });
  it("give phases that share a fill different patterns", () => {
    const looks = phaseOrder.map(lookOfPhase).map((l) => `${l.fill} ${l.pattern}`);
    expect(new Set(looks).size).toBe(9);
  });
});

describe("byBatch", () => {
  const host = (batch: number, phase: Phase) => ({ batch, phase });
  it("puts what is in flight first, then what is to come, and what is over last, the newest first", () => {
    const hosts = [
      host(0, "queued"),
      host(2, "failed"),
      host(1, "done"),
      host(3, "draining"),
      host(3, "done"),
      host(10, "checking"),
      host(0, "left"),
    ];
    const { flying, queued, finished } = byBatch(hosts);
    expect(flying.map((b) => [b.batch, b.hosts.length])).toEqual([
      [3, 2],
      [10, 1],
    ]);
    expect(queued).toHaveLength(2);
    expect(finished.map((b) => b.batch)).toEqual([2, 1]);
  });
  it("knows what is settled", () => {
    expect(phaseOrder.filter(settled)).toEqual(["done", "failed", "left"]);
  });
});

import { QueryClient } from "@tanstack/react-query";
import { describe, expect, it, vi } from "vitest";
import { Gathered } from "./live";

const host = (name: string) => ({
  name,
  state: "serving",
  version: "2026.11.1",
  target: "2026.11.2",
  drifts: true,
  sessions: 1,
  why: "",
});
const member = (name: string) => ({
  host: name,
  state: "serving",
  phase: "queued",
  batch: 0,
  progress: 0,
  sessions: 1,
  version: "2026.11.1",
  why: "",
});

function shown() {
  const queries = new QueryClient();
  queries.setQueryData(["hosts", "counters"], { items: [host("tc-001"), host("tc-002")] });
  queries.setQueryData(["host-pages", {}], {
    pages: [{ items: [host("tc-001")] }, { items: [host("tc-002")] }],
    pageParams: [],
  });
  queries.setQueryData(["hosts", "one", "tc-001"], host("tc-001"));
  queries.setQueryData(["rollovers", 7, "hosts"], { items: [member("tc-001"), member("tc-002")] });
  queries.setQueryData(["rollovers", 8, "hosts"], { items: [member("tc-001")] });
  queries.setQueryData(["rollovers", 7], { id: 7 });
  const stale = () =>
    queries
      .getQueryCache()
      .getAll()
      .filter((q) => q.state.isInvalidated)
      .map((q) => q.queryKey.join(" "))
      .sort();
  return { queries, gathered: new Gathered(queries), stale };
}

describe("Gathered", () => {
  it("writes what an event carries into every list that shows it, and fetches no list again", () => {
    const { queries, gathered, stale } = shown();
    const before = queries.getQueryData<{ items: unknown[] }>(["rollovers", 7, "hosts"]);
    gathered.add({
      kind: "host.drain",
      subject: "host tc-001",
      data: {
        change: {
          host: "tc-001",
          pool: "counters",
          rollover: 7,
          phase: "draining",
          batch: 1,
          state: "draining",
        },
      },
    });
    gathered.add({
      kind: "host.rebuild",
      subject: "host tc-001",
      data: {
        change: {
          host: "tc-001",
          rollover: 7,
          phase: "rebuilding",
          state: "rebuilding",
          version: "2026.11.2",
        },
      },
    });
    gathered.flush();
    const after = queries.getQueryData<{ items: Record<string, unknown>[] }>(["rollovers", 7, "hosts"]);
    expect(after?.items[0]).toMatchObject({
      phase: "rebuilding",
      batch: 1,
      state: "rebuilding",
      version: "2026.11.2",
    });
    expect(after?.items[1]).toBe(before?.items[1]);
    expect(queries.getQueryData(["hosts", "counters"])).toMatchObject({
      items: [{ state: "rebuilding", drifts: false }, { state: "serving" }],
    });
    expect(queries.getQueryData(["host-pages", {}])).toMatchObject({
      pages: [{ items: [{ state: "rebuilding" }] }, { items: [{ state: "serving" }] }],
    });
    expect(
      queries.getQueryData(["rollovers", 8, "hosts"]),
      "another rollover's phase is its own",
    ).toMatchObject({ items: [{ phase: "queued", state: "rebuilding" }] });
    expect(stale()).toEqual(["hosts one tc-001", "rollovers 7"]);
  });
  it("counts people anew without asking, unless too many have changed", () => {
    const { queries, gathered, stale } = shown();
    gathered.add({
      kind: "sessions",
      subject: "pool counters",
      data: { pool: "counters", sessions: { "tc-002": 3 } },
    });
    gathered.flush();
    expect(queries.getQueryData(["hosts", "counters"])).toMatchObject({
      items: [{ sessions: 1 }, { sessions: 3 }],
    });
    expect(stale()).not.toContain("hosts counters");
    gathered.add({ kind: "sessions", subject: "pool counters", data: { pool: "counters", sessions: null } });
    gathered.flush();
    expect(stale()).toContain("hosts counters");
  });
  it("tells how far a disk is, and nothing else of it", () => {
    const { queries, gathered, stale } = shown();
    gathered.add({
      kind: "host.progress",
      subject: "host tc-002",
      data: { change: { host: "tc-002", rollover: 7, progress: 45 } },
    });
    gathered.flush();
    expect(queries.getQueryData(["rollovers", 7, "hosts"])).toMatchObject({
      items: [{ progress: 0 }, { progress: 45, phase: "queued" }],
    });
    expect(stale()).toEqual([]);
  });
  it("looks at everything again after what it does not know, but not at who is signed in", () => {
    const { queries, gathered, stale } = shown();
    queries.setQueryData(["session"], {});
    gathered.add({ kind: "version.activate", subject: "version desk 2026.11.2" });
    gathered.flush();
    expect(stale()).toHaveLength(6);
    const again = vi.spyOn(queries, "invalidateQueries");
    gathered.flush();
    expect(again, "what was brought is brought once").not.toHaveBeenCalled();
  });

  it("patches the answer to a fetch that began before an event", async () => {
    const { queries, gathered } = shown();
    let answer: (list: { items: unknown[] }) => void = () => {};
    const fetched = queries.fetchQuery({
      queryKey: ["hosts", "counters"],
      queryFn: () => new Promise<{ items: unknown[] }>((resolve) => (answer = resolve)),
    });
    gathered.add({
      kind: "host.faulty",
      subject: "host tc-001",
      data: { change: { host: "tc-001", pool: "counters", state: "faulty", why: "no heartbeat" } },
    });
    gathered.flush();
    answer({ items: [host("tc-001"), host("tc-002")] });
    await fetched;
    const list = queries.getQueryData<{ items: { name: string; state: string }[] }>(["hosts", "counters"]);
    expect(list?.items.map((h) => h.state)).toEqual(["faulty", "serving"]);
  });
});

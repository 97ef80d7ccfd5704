import type { components } from "./schema.gen";

type Schemas = components["schemas"];
export type HostState = Schemas["HostState"];
export type Phase = Schemas["Phase"];
export type RolloverState = Schemas["RolloverState"];
export type VersionState = Schemas["VersionState"];
export type CopyState = Schemas["CopyState"];
export type BuildState = Schemas["BuildState"];
export type StepState = Schemas["StepState"];
export type ProofState = Schemas["ProofState"];
export type MachineState = Schemas["MachineState"];
export type BuildMachineState = Schemas["BuildMachineState"];
export type BaseState = Schemas["BaseState"];
export type SessionState = Schemas["SessionState"];
export type FlawSeverity = Schemas["FlawSeverity"];
export type DeliveryState = Schemas["DeliveryState"];
export type DeliveryStage = Schemas["DeliveryStage"];
export type SoftwareChanged = Schemas["SoftwareChanged"];

/** How a pane is drawn: a fill, a pattern and a word, so that none has to stand alone. */
export type Look = { fill: Fill; pattern: Pattern; word: string };
export type Fill = "serving" | "drift" | "moving" | "working" | "broken" | "still";
export type Pattern = "plain" | "slant" | "level" | "hollow" | "dashed" | "cross" | "dots";

/** A state of a host that has no look does not compile. */
const hosts: Record<HostState, Look> = {
  serving: { fill: "serving", pattern: "plain", word: "serving" },
  draining: { fill: "moving", pattern: "level", word: "draining" },
  emptied: { fill: "moving", pattern: "hollow", word: "emptied" },
  rebuilding: { fill: "working", pattern: "dashed", word: "rebuilding" },
  starting: { fill: "working", pattern: "slant", word: "starting" },
  checking: { fill: "working", pattern: "dots", word: "checking" },
  faulty: { fill: "broken", pattern: "cross", word: "faulty" },
  off: { fill: "still", pattern: "hollow", word: "off" },
};

export const hostStates = Object.keys(hosts) as HostState[];

const drifting: Look = { fill: "drift", pattern: "slant", word: "drifts" };

/** The look of a host in a state; drifting ones that serve are slanted. */
export function lookOfHost(state: HostState, drifts: boolean): Look {
  return state === "serving" && drifts ? drifting : hosts[state];
}

/** So does a phase. */
const phases: Record<Phase, Look> = {
  queued: { fill: "drift", pattern: "slant", word: "queued" },
  draining: { fill: "moving", pattern: "level", word: "draining" },
  warned: { fill: "moving", pattern: "dots", word: "warned" },
  emptied: { fill: "moving", pattern: "hollow", word: "emptied" },
  rebuilding: { fill: "working", pattern: "dashed", word: "rebuilding" },
  checking: { fill: "working", pattern: "dots", word: "checking" },
  done: { fill: "serving", pattern: "plain", word: "done" },
  failed: { fill: "broken", pattern: "cross", word: "failed" },
  left: { fill: "still", pattern: "hollow", word: "left" },
};

/** The phases in the order of a bar: what is settled first, what is to come last. */
export const phaseOrder: Phase[] = [
  "done",
  "failed",
  "left",
  "checking",
  "rebuilding",
  "emptied",
  "warned",
  "draining",
  "queued",
];

/** The look of a host in a phase of a rollover. */
export function lookOfPhase(phase: Phase): Look {
  return phases[phase];
}

/** Whether a rollover does nothing more to a host. */
export function settled(phase: Phase): boolean {
  return phase === "done" || phase === "failed" || phase === "left";
}

/** What is told of by a word on a tint; which tint, by its state. */
export type Stated =
  | HostState
  | Phase
  | RolloverState
  | VersionState
  | CopyState
  | MachineState
  | BuildMachineState
  | BaseState
  | BuildState
  | StepState
  | ProofState
  | SoftwareChanged
  | FlawSeverity
  | DeliveryState
  | DeliveryStage
  | "barred"
  | "met"
  | "not met"
  | "kept"
  | "not ready";

/** And so does everything else that has a state. */
export const tints: Record<Stated, "green" | "orange" | "teal" | "red" | "gray"> = {
  serving: "green",
  done: "green",
  finished: "green",
  sealed: "green",
  present: "green",
  ready: "green",
  met: "green",
  passed: "green",
  kept: "green",
  arrived: "green",
  draining: "orange",
  warned: "orange",
  emptied: "orange",
  paused: "orange",
  cancelled: "orange",
  noted: "orange",
  "not met": "orange",
  "not ready": "red",
  rebuilding: "teal",
  starting: "teal",
  checking: "teal",
  running: "teal",
  capturing: "teal",
  delivering: "teal",
  mapping: "teal",
  gathering: "teal",
  sending: "teal",
  preparing: "teal",
  working: "teal",
  sealing: "teal",
  copying: "teal",
  receiving: "teal",
  fetching: "teal",
  converting: "teal",
  making: "teal",
  stopping: "teal",
  discarding: "teal",
  proving: "teal",
  trying: "teal",
  checkpointing: "teal",
  "going back": "teal",
  repairing: "teal",
  "under way": "teal",
  faulty: "red",
  failed: "red",
  barred: "red",
  stopped: "red",
  gone: "red",
  off: "gray",
  queued: "gray",
  dropped: "gray",
  skipped: "gray",
  later: "gray",
  over: "gray",
  left: "gray",
  planned: "gray",
  waiting: "gray",
  retired: "gray",
  deleted: "gray",
  leaving: "gray",
  critical: "red",
  high: "red",
  medium: "orange",
  low: "gray",
  unknown: "gray",
  removed: "red",
  downgraded: "red",
  changed: "orange",
  updated: "gray",
  added: "teal",
};

export type Batch<T> = { batch: number; hosts: T[] };

/**
 * Hosts by batch, as they are looked at: batches with something in flight, then
 * the hosts that are still to come, then the finished batches, the newest first.
 */
export function byBatch<T extends { batch: number; phase: Phase }>(
  hosts: T[],
): { flying: Batch<T>[]; queued: T[]; finished: Batch<T>[] } {
  const groups = new Map<number, T[]>();
  for (const h of hosts) {
    const group = groups.get(h.batch);
    if (group) group.push(h);
    else groups.set(h.batch, [h]);
  }
  const flying: Batch<T>[] = [];
  const finished: Batch<T>[] = [];
  for (const [batch, list] of [...groups].sort(([a], [b]) => a - b)) {
    if (batch === 0) continue;
    (list.every((h) => settled(h.phase)) ? finished : flying).push({ batch, hosts: list });
  }
  return { flying, queued: groups.get(0) ?? [], finished: finished.reverse() };
}

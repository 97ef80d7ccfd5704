/** How a pane is drawn: a fill, a pattern and a word, so that none has to stand alone. */
export type Look = { fill: string; pattern: Pattern; word: string };
export type Pattern = "plain" | "slant" | "level" | "hollow" | "dashed" | "cross" | "dots";

/** The look of a host in a state; drifting ones that serve are slanted. */
export function lookOfHost(state: string, drifts: boolean): Look {
  switch (state) {
    case "serving":
      return drifts
        ? { fill: "pane.drift", pattern: "slant", word: "drifts" }
        : { fill: "pane.serving", pattern: "plain", word: "serving" };
    case "draining":
      return { fill: "pane.moving", pattern: "level", word: "draining" };
    case "emptied":
      return { fill: "pane.moving", pattern: "hollow", word: "emptied" };
    case "rebuilding":
    case "starting":
      return { fill: "pane.working", pattern: "dashed", word: state };
    case "checking":
      return { fill: "pane.working", pattern: "dots", word: "checking" };
    case "faulty":
      return { fill: "pane.broken", pattern: "cross", word: "faulty" };
  }
  return { fill: "pane.still", pattern: "hollow", word: state };
}

/** The look of a host in a phase of a rollover. */
export function lookOfPhase(phase: string): Look {
  switch (phase) {
    case "done":
      return { fill: "pane.serving", pattern: "plain", word: "done" };
    case "queued":
      return { fill: "pane.drift", pattern: "slant", word: "queued" };
    case "draining":
      return { fill: "pane.moving", pattern: "level", word: "draining" };
    case "warned":
      return { fill: "pane.moving", pattern: "dots", word: "warned" };
    case "emptied":
      return { fill: "pane.moving", pattern: "hollow", word: "emptied" };
    case "rebuilding":
      return { fill: "pane.working", pattern: "dashed", word: "rebuilding" };
    case "checking":
      return { fill: "pane.working", pattern: "dots", word: "checking" };
    case "failed":
      return { fill: "pane.broken", pattern: "cross", word: "failed" };
  }
  return { fill: "pane.still", pattern: "hollow", word: phase };
}

/** Hosts by batch: the batches in order, and last those without one. */
export function byBatch<T extends { batch: number }>(hosts: T[]): [number, T[]][] {
  const groups = new Map<number, T[]>();
  for (const h of hosts) groups.set(h.batch, [...(groups.get(h.batch) ?? []), h]);
  return [...groups].sort(([a], [b]) => (a || Number.POSITIVE_INFINITY) - (b || Number.POSITIVE_INFINITY));
}

import { useSyncExternalStore } from "react";
import { api, type Base, call } from "./api";

const pieceSize = 4 << 20; // bytes

/** Files that are sent from this tab: they go on while one looks at other pages. */
const sending = new Map<string, { error?: Error }>();
const watchers = new Set<() => void>();

function changed() {
  for (const w of watchers) w();
}

/** How the sending of a base's file from this tab stands; undefined if it is not sent from here. */
export function useSending(name: string): { error?: Error } | undefined {
  return useSyncExternalStore(
    (watcher) => {
      watchers.add(watcher);
      return () => watchers.delete(watcher);
    },
    () => sending.get(name),
  );
}

function stay(e: BeforeUnloadEvent) {
  e.preventDefault();
}

/** Sends what the service does not have yet of a base's file, a piece at a time: the file is never held as a whole. */
export async function sendBase(base: Base, file: File): Promise<void> {
  if (sending.has(base.name) && !sending.get(base.name)?.error) return;
  if (file.size !== base.size)
    throw new Error(
      `${file.name} has ${file.size} bytes, and the file that was begun has ${base.size}: take the same file.`,
    );
  sending.set(base.name, {});
  changed();
  window.addEventListener("beforeunload", stay);
  try {
    let there = base;
    while (there.state === "receiving") {
      const piece = await file.slice(there.have, there.have + pieceSize).arrayBuffer();
      there = await call(
        api.PUT("/api/v1/bases/{base}/piece", {
          params: { path: { base: base.name }, query: { from: there.have } },
          body: new Uint8Array(piece) as never,
          bodySerializer: (bytes) => bytes as never,
          headers: { "Content-Type": "application/octet-stream" },
        }),
      );
    }
    sending.delete(base.name);
  } catch (e) {
    sending.set(base.name, { error: e as Error });
  } finally {
    if (![...sending.values()].some((s) => !s.error)) window.removeEventListener("beforeunload", stay);
    changed();
  }
}

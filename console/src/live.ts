import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";

/** What is looked at again when an event of a kind comes; of every other kind, all of it. */
const concerns: Record<string, string[]> = {
  sessions: ["pools", "hosts", "sessions"],
  "work.progress": ["versions", "rollovers"],
  "work.end": ["rollovers"],
};

const gather = 700; // milliseconds between two looks

/**
 * Keeps what is shown as it is: listens to the event stream, and has what an
 * event concerns fetched again. The browser takes a lost connection up again
 * by itself, from the last event that it saw.
 *
 * @returns whether the stream is connected
 */
export function useLive(): boolean {
  const queries = useQueryClient();
  const [connected, setConnected] = useState(true);
  useEffect(() => {
    const stream = new EventSource("/api/v1/events");
    let due = new Set<string>();
    let timer: ReturnType<typeof setTimeout> | undefined;
    const look = () => {
      timer = undefined;
      const keys = due;
      due = new Set();
      void queries.invalidateQueries({
        predicate: (q) => q.queryKey[0] !== "session" && (keys.has("all") || keys.has(String(q.queryKey[0]))),
      });
    };
    stream.addEventListener("change", (message) => {
      const { kind } = JSON.parse(message.data) as { kind: string };
      for (const key of concerns[kind] ?? ["all"]) due.add(key);
      timer ??= setTimeout(look, gather);
    });
    stream.onopen = () => {
      setConnected(true);
      void queries.invalidateQueries({ predicate: (q) => q.queryKey[0] !== "session" });
    };
    stream.onerror = () => setConnected(false);
    return () => {
      clearTimeout(timer);
      stream.close();
    };
  }, [queries]);
  return connected;
}

import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";

/** What is looked at again when an event of a kind comes; of every other kind, all of it. */
const concerns: Record<string, string[]> = {
  sessions: ["pools", "hosts", "sessions"],
  "work.progress": ["versions", "rollovers"],
  "work.end": ["rollovers"],
};

const retry = 5_000; // milliseconds until a stream that was refused is asked for again
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
    let due = new Set<string>();
    let timer: ReturnType<typeof setTimeout> | undefined;
    let again: ReturnType<typeof setTimeout> | undefined;
    const look = () => {
      timer = undefined;
      const keys = due;
      due = new Set();
      void queries.invalidateQueries({
        predicate: (q) => q.queryKey[0] !== "session" && (keys.has("all") || keys.has(String(q.queryKey[0]))),
      });
    };
    let stream: EventSource | undefined;
    const listen = () => {
      stream = new EventSource("/api/v1/events");
      stream.addEventListener("change", (message) => {
        const { kind } = JSON.parse(message.data) as { kind: string };
        for (const key of concerns[kind] ?? ["all"]) due.add(key);
        timer ??= setTimeout(look, gather);
      });
      stream.onopen = () => {
        setConnected(true);
        due.add("all");
        timer ??= setTimeout(look, gather);
      };
      stream.onerror = () => {
        setConnected(false);
        if (stream?.readyState !== EventSource.CLOSED) return;
        // The service would not have it: perhaps the session has ended, or too many pages are open.
        stream = undefined;
        void queries.invalidateQueries({ queryKey: ["session"] });
        again = setTimeout(turn, retry);
      };
    };
    const stop = () => {
      stream?.close();
      stream = undefined;
    };
    // A browser has few connections to one service: a page that nobody sees takes none.
    const turn = () => {
      if (document.visibilityState === "hidden") stop();
      else if (!stream) listen();
    };
    turn();
    document.addEventListener("visibilitychange", turn);
    window.addEventListener("pagehide", stop);
    window.addEventListener("pageshow", turn);
    return () => {
      clearTimeout(timer);
      clearTimeout(again);
      document.removeEventListener("visibilitychange", turn);
      window.removeEventListener("pagehide", stop);
      window.removeEventListener("pageshow", turn);
      stop();
    };
  }, [queries]);
  return connected;
}

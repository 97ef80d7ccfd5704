import { type Query, type QueryClient, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import type { Host, RolloverHost } from "./api";
import type { HostState, Phase } from "./panes";

/** What an event says has changed of a host. What is left out is as it was. */
type HostChange = {
  host: string;
  pool?: string;
  rollover?: number;
  phase?: Phase;
  batch?: number;
  progress?: number;
  state?: HostState;
  version?: string;
  why?: string;
};

export type Change = {
  kind: string;
  subject: string;
  at?: string;
  data?: {
    change?: HostChange;
    pool?: string;
    sessions?: Record<string, number> | null;
  } | null;
};

type Listed<T> = { items: T[] };

/** What is written into lists at once. */
type Patch = { at: string; hosts: Map<string, HostChange[]>; sessions: Map<string, number> };

/** Whether a query lists hosts: pages of them, those of a pool, or those of a rollover. */
function listsHosts({ queryKey: [first, second, third] }: Query) {
  return (
    first === "host-pages" ||
    (first === "hosts" && second !== "one") ||
    (first === "rollovers" && third === "hosts")
  );
}

/**
 * Gathers what events say, and brings what is shown to it: what they carry is
 * written into the lists that are there, and only what they do not carry is
 * fetched again.
 */
export class Gathered {
  private readonly hosts = new Map<string, HostChange[]>(); // by host
  private readonly sessions = new Map<string, Map<string, number>>(); // by pool and host
  private readonly due = new Set<string>(); // what is fetched again, by the beginning of its key; "all" for everything

  // Patches of a list while a fetch of it is in flight, by the query hash: the answer may be older, and is patched
  // again when it arrives.
  private readonly fetching = new Map<string, Patch[]>();
  private readonly unsubscribe: () => void;

  constructor(private readonly queries: QueryClient) {
    this.unsubscribe = queries.getQueryCache().subscribe((event) => {
      if (event.type !== "updated" || !listsHosts(event.query)) return;
      const { action, query } = event;
      if (action.type === "fetch") this.fetching.set(query.queryHash, []);
      else if (action.type === "error") this.fetching.delete(query.queryHash);
      else if (action.type === "success" && !action.manual) {
        const patches = this.fetching.get(query.queryHash) ?? [];
        this.fetching.delete(query.queryHash);
        for (const p of patches) this.apply(query, p);
      }
    });
  }

  stop() {
    this.unsubscribe();
  }

  add({ kind, data }: Change) {
    const change = data?.change;
    if (change) {
      const before = this.hosts.get(change.host);
      if (before) before.push(change);
      else this.hosts.set(change.host, [change]);
      // Their counts, and what stands in the trail.
      if (kind !== "host.progress")
        for (const key of ["pools", "rollover", "trail", "today"]) this.due.add(key);
      return;
    }
    switch (kind) {
      case "sessions":
        if (data?.pool && data.sessions) {
          const counts = this.sessions.get(data.pool) ?? new Map<string, number>();
          for (const [host, n] of Object.entries(data.sessions)) counts.set(host, n);
          this.sessions.set(data.pool, counts);
        } else {
          this.due.add("hosts");
          this.due.add("rollovers");
        }
        this.due.add("pools");
        this.due.add("sessions");
        break;
      case "version.progress":
        this.due.add("versions");
        this.due.add("deliveries");
        break;
      case "work.end":
      case "host.enrol":
        break; // the rollover's next event says what follows
      case "session.tell":
      case "session.warn":
      case "session.remind":
      case "session.sign-off":
        this.due.add("trail");
        break;
      case "rollover.holds":
        this.due.add("rollover");
        break;
      default:
        if (kind === "build" || kind.startsWith("build.")) {
          for (const key of ["builds", "sheets", "trail"]) this.due.add(key);
        } else if (kind === "sheet" || kind.startsWith("sheet."))
          for (const key of ["sheets", "trail"]) this.due.add(key);
        else if (kind === "proof" || kind.startsWith("proof."))
          for (const key of ["proofs", "trail", "today"]) this.due.add(key);
        else if (kind === "schedule" || kind.startsWith("schedule."))
          for (const key of ["schedules", "calendar", "trail", "today"]) this.due.add(key);
        else if (kind === "feed" || kind.startsWith("feed."))
          for (const key of ["feeds", "bases", "trail", "today"]) this.due.add(key);
        else if (kind === "base" || kind.startsWith("base."))
          for (const key of ["bases", "feeds", "deliveries", "trail"]) this.due.add(key);
        else if (kind === "machine" || kind.startsWith("build-machine."))
          for (const key of ["build-machines", "trail", "today"]) this.due.add(key);
        else this.due.add("all");
    }
  }

  /** Brings what is shown to what was gathered. */
  flush() {
    this.patch();
    const due = new Set(this.due);
    this.due.clear();
    if (due.size === 0) return;
    void this.queries.invalidateQueries({
      predicate: ({ queryKey: [first, second, third] }) => {
        if (first === "session") return false;
        if (due.has("all")) return true;
        // One rollover is small; the list of its hosts is not.
        if (first === "rollovers" && typeof second === "number" && third === undefined)
          return due.has("rollover") || due.has("rollovers");
        if (first === "hosts" && second === "one") return due.has("pools");
        return due.has(String(first));
      },
    });
  }

  private patch() {
    if (this.hosts.size === 0 && this.sessions.size === 0) return;
    const patch: Patch = {
      at: new Date().toISOString(),
      hosts: new Map(this.hosts),
      sessions: new Map([...this.sessions.values()].flatMap((m) => [...m])),
    };
    for (const q of this.queries.getQueryCache().findAll({ predicate: listsHosts })) {
      this.apply(q, patch);
      if (q.state.fetchStatus === "fetching") this.fetching.get(q.queryHash)?.push(patch);
    }
    this.hosts.clear();
    this.sessions.clear();
  }

  private apply({ queryKey }: Query, { at, hosts, sessions }: Patch) {
    if (queryKey[0] !== "rollovers") {
      this.write<Host>(queryKey, (h) => {
        let out = h;
        for (const c of hosts.get(h.name) ?? []) {
          if (!c.state && !c.version) continue;
          out = {
            ...out,
            state: c.state ?? out.state,
            version: c.version ?? out.version,
            why: c.state === "faulty" ? (c.why ?? "") : c.state ? "" : out.why,
            since: c.state ? at : out.since,
          };
          out.drifts = out.version !== out.target && out.target !== "";
        }
        const n = sessions.get(h.name);
        return n === undefined || n === out.sessions ? out : { ...out, sessions: n };
      });
      return;
    }
    this.write<RolloverHost>(queryKey, (h) => {
      let out = h;
      for (const c of hosts.get(h.host) ?? []) {
        const mine = c.rollover === queryKey[1];
        out = {
          ...out,
          state: c.state ?? out.state,
          version: c.version ?? out.version,
          phase: (mine && c.phase) || out.phase,
          batch: (mine && c.batch) || out.batch,
          progress: mine && c.progress !== undefined ? c.progress : out.progress,
          why: mine && c.phase ? (c.why ?? "") : out.why,
        };
      }
      const n = sessions.get(h.host);
      return n === undefined || n === out.sessions ? out : { ...out, sessions: n };
    });
  }

  /** Writes a list anew, or its pages, if something of it has changed: what has not stays the very same. */
  private write<T>(key: readonly unknown[], change: (item: T) => T) {
    const renewed = (list: Listed<T>): Listed<T> => {
      let changed = false;
      const items = list.items.map((item) => {
        const next = change(item);
        changed ||= next !== item;
        return next;
      });
      return changed ? { ...list, items } : list;
    };
    this.queries.setQueryData<Listed<T> | { pages: Listed<T>[] }>(key, (data) => {
      if (!data || "items" in data) return data && renewed(data);
      const pages = data.pages.map(renewed);
      return pages.some((p, i) => p !== data.pages[i]) ? { ...data, pages } : data;
    });
  }
}

const retry = 5_000; // milliseconds until a stream that was refused is asked for again
const gather = 700; // milliseconds between two looks

/**
 * Keeps what is shown as it is: listens to the event stream. The browser takes
 * a lost connection up again by itself, from the last event that it saw.
 *
 * @returns whether the stream is connected
 */
export function useLive(): boolean {
  const queries = useQueryClient();
  const [connected, setConnected] = useState(true);
  useEffect(() => {
    const gathered = new Gathered(queries);
    let timer: ReturnType<typeof setTimeout> | undefined;
    let again: ReturnType<typeof setTimeout> | undefined;
    const add = (change: Change) => {
      gathered.add(change);
      timer ??= setTimeout(() => {
        timer = undefined;
        gathered.flush();
      }, gather);
    };
    let stream: EventSource | undefined;
    const listen = () => {
      stream = new EventSource("/api/v1/events");
      stream.addEventListener("change", (message) => add(JSON.parse(message.data) as Change));
      stream.onopen = () => {
        setConnected(true);
        // What happened before somebody listened was not heard.
        add({ kind: "all", subject: "" });
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
      gathered.stop();
    };
  }, [queries]);
  return connected;
}

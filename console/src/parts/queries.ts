import { QueryClient, queryOptions } from "@tanstack/react-query";
import { api, call, everyPage, Refusal, setCsrf } from "../api";

// What several pages ask for, and what is asked for while a page is still being loaded.

export const queries = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 5_000,
      // A service that restarts is back in a moment; what it refuses it will refuse again.
      retry: (n, error) => n < 5 && !(error instanceof Refusal && error.status >= 400 && error.status < 500),
      retryDelay: 800,
    },
  },
});

export const whoIsSignedIn = queryOptions({
  queryKey: ["session"],
  retry: (n, error) => n < 3 && !(error instanceof Refusal && error.type === "not-signed-in"),
  queryFn: async () => {
    const me = await call(api.GET("/api/v1/session"));
    setCsrf(me.csrf ?? "");
    return me.account;
  },
});

export function rolloverOf(id: number) {
  return queryOptions({
    queryKey: ["rollovers", id],
    queryFn: () => call(api.GET("/api/v1/rollovers/{id}", { params: { path: { id } } })),
  });
}

export function hostsOfRollover(id: number) {
  return queryOptions({
    queryKey: ["rollovers", id, "hosts"],
    queryFn: () => call(api.GET("/api/v1/rollovers/{id}/hosts", { params: { path: { id } } })),
  });
}

export function hostsOfPool(pool: string) {
  return queryOptions({
    queryKey: ["hosts", pool],
    queryFn: () =>
      everyPage((cursor) =>
        call(api.GET("/api/v1/hosts", { params: { query: { pool, limit: 1000, cursor } } })),
      ),
  });
}

/** Asks for what the page at a path takes longest to be given. */
export function askAhead(path: string) {
  const [, pool] = path.match(/^\/pools\/([a-z0-9-]+)$/) ?? [];
  if (pool) void queries.prefetchQuery(hostsOfPool(pool));
  const [, id] = path.match(/^\/rollovers\/(\d+)$/) ?? [];
  if (id) {
    void queries.prefetchQuery(rolloverOf(Number(id)));
    void queries.prefetchQuery(hostsOfRollover(Number(id)));
  }
}

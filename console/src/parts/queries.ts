import { queryOptions } from "@tanstack/react-query";
import { api, call, everyPage } from "../api";

// What several pages ask for, and what is asked for while a page is still being loaded.

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

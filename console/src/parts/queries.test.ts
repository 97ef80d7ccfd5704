import { afterEach, expect, it, vi } from "vitest";
import { service } from "../testing";
import { askAhead, queries } from "./queries";

afterEach(() => queries.clear());

it.each([
  ["/rollovers/7", ["GET /api/v1/rollovers/7", "GET /api/v1/rollovers/7/hosts"]],
  ["/pools/back-office", ["GET /api/v1/hosts?pool=back-office&limit=1000"]],
  ["/rollovers/new", []],
  ["/rollovers/7/hosts", []],
  ["/pools", []],
  ["/pools/%E0%A4", []],
])("asks ahead for what %s is slow to be given", async (path, wanted) => {
  const { asked } = service({
    "GET /api/v1/rollovers/7": { id: 7 },
    "GET /api/v1/rollovers/7/hosts": { items: [] },
    "GET /api/v1/hosts": { items: [], next: "" },
  });
  askAhead(path);
  await vi.waitFor(() => expect(queries.isFetching()).toBe(0));
  expect(asked.map((a) => a.what)).toEqual(wanted);
});

it("finds what was asked ahead when the page looks for it", async () => {
  const { asked } = service({
    "GET /api/v1/rollovers/7": { id: 7 },
    "GET /api/v1/rollovers/7/hosts": { items: [{ host: "b-1" }] },
  });
  askAhead("/rollovers/7");
  askAhead("/rollovers/7");
  await vi.waitFor(() => expect(queries.getQueryData(["rollovers", 7, "hosts"])).toBeDefined());
  expect(queries.getQueryData(["rollovers", 7, "hosts"])).toEqual({ items: [{ host: "b-1" }] });
  expect(asked).toHaveLength(2);
});

import Ajv from "ajv/dist/2020";
import formats from "ajv-formats";
import createClient from "openapi-fetch";
import { describe, expect, it } from "vitest";
import description from "../../docs/openapi.json";
import type { paths } from "./schema.gen";

// Address and token of a service, and names of its records. The test that starts the service sets them.
const { NIMBLEPANE_URL: url, NIMBLEPANE_TOKEN: token, NIMBLEPANE_VALUES: values } = process.env;
const names: Record<string, string> = JSON.parse(values ?? "{}");
const of = (name: string) => names[name] ?? "";

const client = createClient<paths>({ baseUrl: url, headers: { Authorization: `Bearer ${token}` } });

const gets = {
  "/api/v1/accounts": () => client.GET("/api/v1/accounts"),
  "/api/v1/bases": () => client.GET("/api/v1/bases"),
  "/api/v1/bases/{base}": () =>
    client.GET("/api/v1/bases/{base}", { params: { path: { base: of("base") } } }),
  "/api/v1/build-machines": () => client.GET("/api/v1/build-machines"),
  "/api/v1/builds": () => client.GET("/api/v1/builds"),
  "/api/v1/builds/{id}": () =>
    client.GET("/api/v1/builds/{id}", { params: { path: { id: Number(of("id@builds")) } } }),
  "/api/v1/builds/{id}/log": () =>
    client.GET("/api/v1/builds/{id}/log", { params: { path: { id: Number(of("id@builds")) } } }),
  "/api/v1/builds/{id}/log.txt": () =>
    client.GET("/api/v1/builds/{id}/log.txt", {
      params: { path: { id: Number(of("id@builds")) } },
      parseAs: "text",
    }),
  "/api/v1/calendar": () => client.GET("/api/v1/calendar"),
  "/api/v1/deliveries": () => client.GET("/api/v1/deliveries"),
  "/api/v1/estate": () => client.GET("/api/v1/estate", { parseAs: "text" }),
  "/api/v1/feeds": () => client.GET("/api/v1/feeds"),
  "/api/v1/feeds/{feed}": () =>
    client.GET("/api/v1/feeds/{feed}", { params: { path: { feed: of("feed") } } }),
  "/api/v1/flaw-lists": () => client.GET("/api/v1/flaw-lists"),
  "/api/v1/hosts": () => client.GET("/api/v1/hosts"),
  "/api/v1/hosts/{host}": () =>
    client.GET("/api/v1/hosts/{host}", { params: { path: { host: of("host") } } }),
  "/api/v1/images": () => client.GET("/api/v1/images"),
  "/api/v1/images/{image}": () =>
    client.GET("/api/v1/images/{image}", { params: { path: { image: of("image") } } }),
  "/api/v1/images/{image}/build-sizes": () =>
    client.GET("/api/v1/images/{image}/build-sizes", { params: { path: { image: of("image") } } }),
  "/api/v1/images/{image}/moves": () =>
    client.GET("/api/v1/images/{image}/moves", { params: { path: { image: of("image") } } }),
  "/api/v1/images/{image}/readiness": () =>
    client.GET("/api/v1/images/{image}/readiness", { params: { path: { image: of("image") } } }),
  "/api/v1/images/{image}/retention": () =>
    client.GET("/api/v1/images/{image}/retention", { params: { path: { image: of("image") } } }),
  "/api/v1/images/{image}/versions": () =>
    client.GET("/api/v1/images/{image}/versions", { params: { path: { image: of("image") } } }),
  "/api/v1/images/{image}/versions/{number}": () =>
    client.GET("/api/v1/images/{image}/versions/{number}", {
      params: { path: { image: of("image"), number: of("number") } },
    }),
  "/api/v1/images/{image}/versions/{number}/comparison": () =>
    client.GET("/api/v1/images/{image}/versions/{number}/comparison", {
      params: { path: { image: of("image"), number: of("number") } },
    }),
  "/api/v1/images/{image}/versions/{number}/comparison/document": () =>
    client.GET("/api/v1/images/{image}/versions/{number}/comparison/document", {
      params: { path: { image: of("image"), number: of("number") } },
      parseAs: "text",
    }),
  "/api/v1/images/{image}/versions/{number}/facts": () =>
    client.GET("/api/v1/images/{image}/versions/{number}/facts", {
      params: { path: { image: of("image"), number: of("number") } },
    }),
  "/api/v1/images/{image}/versions/{number}/flaws": () =>
    client.GET("/api/v1/images/{image}/versions/{number}/flaws", {
      params: { path: { image: of("image"), number: of("number") } },
    }),
  "/api/v1/images/{image}/versions/{number}/provenance": () =>
    client.GET("/api/v1/images/{image}/versions/{number}/provenance", {
      params: { path: { image: of("image"), number: of("number") } },
    }),
  "/api/v1/images/{image}/versions/{number}/provenance/document": () =>
    client.GET("/api/v1/images/{image}/versions/{number}/provenance/document", {
      params: { path: { image: of("image"), number: of("number") } },
      parseAs: "text",
    }),
  "/api/v1/images/{image}/versions/{number}/software": () =>
    client.GET("/api/v1/images/{image}/versions/{number}/software", {
      params: { path: { image: of("image"), number: of("number") } },
    }),
  "/api/v1/images/{image}/versions/{number}/software/document": () =>
    client.GET("/api/v1/images/{image}/versions/{number}/software/document", {
      params: { path: { image: of("image"), number: of("number") } },
      parseAs: "text",
    }),
  "/api/v1/images/{image}/versions/{number}/trial": () =>
    client.GET("/api/v1/images/{image}/versions/{number}/trial", {
      params: { path: { image: of("image"), number: of("number") } },
    }),
  "/api/v1/lines": () => client.GET("/api/v1/lines"),
  "/api/v1/pools": () => client.GET("/api/v1/pools"),
  "/api/v1/pools/{pool}": () =>
    client.GET("/api/v1/pools/{pool}", { params: { path: { pool: of("pool") } } }),
  "/api/v1/proofs": () => client.GET("/api/v1/proofs"),
  "/api/v1/proofs/{id}": () =>
    client.GET("/api/v1/proofs/{id}", { params: { path: { id: Number(of("id@proofs")) } } }),
  "/api/v1/proofs/{id}/picture.png": () =>
    client.GET("/api/v1/proofs/{id}/picture.png", {
      params: { path: { id: Number(of("id@proofs")) } },
      parseAs: "blob",
    }),
  "/api/v1/ready-steps": () => client.GET("/api/v1/ready-steps"),
  "/api/v1/releases": () => client.GET("/api/v1/releases"),
  "/api/v1/rollovers": () => client.GET("/api/v1/rollovers"),
  "/api/v1/rollovers/defaults": () => client.GET("/api/v1/rollovers/defaults"),
  "/api/v1/rollovers/{id}": () =>
    client.GET("/api/v1/rollovers/{id}", { params: { path: { id: Number(of("id@rollovers")) } } }),
  "/api/v1/rollovers/{id}/hosts": () =>
    client.GET("/api/v1/rollovers/{id}/hosts", { params: { path: { id: Number(of("id@rollovers")) } } }),
  "/api/v1/schedules": () => client.GET("/api/v1/schedules"),
  "/api/v1/schedules/{schedule}": () =>
    client.GET("/api/v1/schedules/{schedule}", { params: { path: { schedule: of("schedule") } } }),
  "/api/v1/session": () => client.GET("/api/v1/session"),
  "/api/v1/sessions": () => client.GET("/api/v1/sessions"),
  "/api/v1/sheets": () => client.GET("/api/v1/sheets"),
  "/api/v1/sheets/{sheet}": () =>
    client.GET("/api/v1/sheets/{sheet}", { params: { path: { sheet: of("sheet") } } }),
  "/api/v1/signing-keys": () => client.GET("/api/v1/signing-keys", { parseAs: "text" }),
  "/api/v1/sites": () => client.GET("/api/v1/sites"),
  "/api/v1/sites/{site}": () =>
    client.GET("/api/v1/sites/{site}", { params: { path: { site: of("site") } } }),
  "/api/v1/sites/{site}/build-machines/{machine}": () =>
    client.GET("/api/v1/sites/{site}/build-machines/{machine}", {
      params: { path: { site: of("site"), machine: of("machine") } },
    }),
  "/api/v1/sites/{site}/build-machines/{machine}/check": () =>
    client.GET("/api/v1/sites/{site}/build-machines/{machine}/check", {
      params: { path: { site: of("site"), machine: of("machine") } },
    }),
  "/api/v1/sites/{site}/build-machines/{machine}/file": () =>
    client.GET("/api/v1/sites/{site}/build-machines/{machine}/file", {
      params: { path: { site: of("site"), machine: of("machine") }, query: { path: of("path") } },
      parseAs: "blob",
    }),
  "/api/v1/sites/{site}/build-machines/{machine}/openings": () =>
    client.GET("/api/v1/sites/{site}/build-machines/{machine}/openings", {
      params: { path: { site: of("site"), machine: of("machine") } },
    }),
  "/api/v1/sites/{site}/build-machines/{machine}/openings/picture.png": () =>
    client.GET("/api/v1/sites/{site}/build-machines/{machine}/openings/picture.png", {
      params: {
        path: { site: of("site"), machine: of("machine") },
        query: { application: of("application") },
      },
      parseAs: "blob",
    }),
  "/api/v1/sites/{site}/build-machines/{machine}/sheet.yaml": () =>
    client.GET("/api/v1/sites/{site}/build-machines/{machine}/sheet.yaml", {
      params: { path: { site: of("site"), machine: of("machine") } },
      parseAs: "text",
    }),
  "/api/v1/sites/{site}/build-machines/{machine}/tries": () =>
    client.GET("/api/v1/sites/{site}/build-machines/{machine}/tries", {
      params: { path: { site: of("site"), machine: of("machine") } },
    }),
  "/api/v1/software": () => client.GET("/api/v1/software", { params: { query: { name: of("name") } } }),
  "/api/v1/status": () => client.GET("/api/v1/status"),
  "/api/v1/today": () => client.GET("/api/v1/today"),
  "/api/v1/tokens": () => client.GET("/api/v1/tokens"),
  "/api/v1/trail": () => client.GET("/api/v1/trail"),
  "/api/v1/trail/export": () => client.GET("/api/v1/trail/export", { parseAs: "text" }),
  "/api/v1/trail/verify": () => client.GET("/api/v1/trail/verify"),
  "/healthz": () => client.GET("/healthz", { parseAs: "text" }),
  "/readyz": () => client.GET("/readyz", { parseAs: "text" }),
};

type Described = { get?: { responses: { 200?: { content?: Record<string, unknown> } } } };
const described = Object.entries(description.paths as Record<string, Described>).filter(
  ([path, { get }]) => get && path !== "/api/v1/events", // a stream without an end
);

it("calls everything that is read", () => {
  expect(Object.keys(gets).sort()).toEqual(described.map(([path]) => path).sort());
});

describe.skipIf(!url)("a service", () => {
  const ajv = new Ajv({ strict: false, allErrors: true });
  formats(ajv);
  ajv.addSchema({ ...description, $id: "api" });
  it.each(Object.entries(gets))("answers %s as it is described", async (path, call) => {
    const { data, error, response } = await call();
    expect(error).toBeUndefined();
    expect(response.status).toBe(200);
    const media = response.headers.get("Content-Type")?.split(";")[0] ?? "";
    const get = described.find(([p]) => p === path)?.[1].get;
    expect(Object.keys(get?.responses[200]?.content ?? {})).toContain(media);
    if (media !== "application/json") return;
    const at = path.replaceAll("/", "~1").replaceAll("{", "%7B").replaceAll("}", "%7D");
    const valid = ajv.getSchema(`api#/paths/${at}/get/responses/200/content/application~1json/schema`);
    valid?.(data);
    expect(valid?.errors, JSON.stringify(data).slice(0, 2000)).toBeNull();
  });
});

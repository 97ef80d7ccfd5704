import { expect, it } from "vitest";

const sources = import.meta.glob("./**/*.{ts,tsx}", {
  query: "?raw",
  import: "default",
  eager: true,
}) as Record<string, string>;

it("no page imports another, and nothing that pages share imports a page", () => {
  const pages = Object.keys(sources).filter((f) => f.startsWith("./pages/"));
  expect(pages.length).toBeGreaterThan(10);
  for (const [file, text] of Object.entries(sources)) {
    if (file.includes(".test.") || file === "./main.tsx") continue;
    const imports = [...text.matchAll(/from "([^"]+)"/g)].map((m) => m[1]);
    expect(
      imports.filter((i) => i.includes("/pages/") || (file.startsWith("./pages/") && i.startsWith("./"))),
      file,
    ).toEqual([]);
  }
});

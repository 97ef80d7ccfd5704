import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { brotliCompressSync, gzipSync } from "node:zlib";
import react from "@vitejs/plugin-react";
import type { Plugin } from "vite";
import { defineConfig } from "vitest/config";

/** Writes each text file of the build once more as br and as gzip, for the service to send as it is. */
function compressed(): Plugin {
  let folder = "";
  return {
    name: "compressed",
    apply: "build",
    configResolved(config) {
      folder = join(config.root, config.build.outDir);
    },
    closeBundle() {
      for (const name of readdirSync(folder, { recursive: true, encoding: "utf8" })) {
        if (!/\.(js|css|html|svg)$/.test(name)) continue;
        const content = readFileSync(join(folder, name));
        writeFileSync(join(folder, `${name}.br`), brotliCompressSync(content));
        writeFileSync(join(folder, `${name}.gz`), gzipSync(content, { level: 9 }));
      }
    },
  };
}

export default defineConfig({
  plugins: [react(), compressed()],
  build: { chunkSizeWarningLimit: 900, emptyOutDir: true },
  server: { proxy: { "/api": "http://127.0.0.1:7700" } },
  test: {
    include: ["src/**/*.test.{ts,tsx}"],
    environment: "jsdom",
    setupFiles: ["src/test-setup.ts"],
    testTimeout: 30_000,
  },
});

import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { gzipSync } from "node:zlib";
import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import type { Plugin } from "vite";
import { defineConfig } from "vitest/config";

/** Puts a compressed copy beside each script and style, for the service to send as it is. */
function packed(): Plugin {
  return {
    name: "packed",
    apply: "build",
    closeBundle() {
      const dir = join(import.meta.dirname, "dist/assets");
      for (const file of readdirSync(dir)) {
        if (/\.(js|css)$/.test(file)) writeFileSync(join(dir, file + ".gz"), gzipSync(readFileSync(join(dir, file)), { level: 9 }));
      }
      writeFileSync(join(import.meta.dirname, "dist/.keep"), "");
    },
  };
}

export default defineConfig({
  plugins: [react(), tailwindcss(), packed()],
  build: { target: "es2022", assetsInlineLimit: 0, reportCompressedSize: false },
  // The files of tests share one page, cleaned between tests: half the time went into making a new one for each.
  test: {
    environment: "jsdom",
    setupFiles: ["src/testing/setup.ts"],
    isolate: false,
    testTimeout: 30_000,
    restoreMocks: true,
    unstubGlobals: true,
  },
  server: { proxy: { "/api": "http://127.0.0.1:8410" } },
});

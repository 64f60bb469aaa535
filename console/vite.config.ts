import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

export default defineConfig({
  // How fast the machine is, no test tells: the limit only ends one that hangs.
  test: { environment: "jsdom", setupFiles: "vitest.setup.ts", testTimeout: 120_000, hookTimeout: 120_000 },
  plugins: [react()],
  build: { outDir: "dist", emptyOutDir: true, modulePreload: { polyfill: false }, assetsInlineLimit: 0, chunkSizeWarningLimit: 650 },
  server: { proxy: { "/api": "http://127.0.0.1:8717" } },
});

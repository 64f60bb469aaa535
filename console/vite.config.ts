import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

export default defineConfig({
  test: { environment: "jsdom", setupFiles: "vitest.setup.ts" },
  plugins: [react()],
  build: { outDir: "dist", emptyOutDir: true, modulePreload: { polyfill: false }, assetsInlineLimit: 0, chunkSizeWarningLimit: 650 },
  server: { proxy: { "/api": "http://127.0.0.1:8717" } },
});

import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

export default defineConfig({
  plugins: [react(), tailwindcss()],
  build: { assetsInlineLimit: 0, chunkSizeWarningLimit: 400 },
  server: { proxy: { "/api": "http://127.0.0.1:7411" } },
  test: {
    environment: "jsdom",
    isolate: false,
    setupFiles: "src/test/setup.ts",
    css: false,
    testTimeout: 60_000, // a busy machine is no fault
    expect: { poll: { timeout: 15_000 } },
  },
});

import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

export default defineConfig({
  plugins: [react()],
  build: {
    outDir: "../internal/server/webui/dist",
    emptyOutDir: true,
    assetsInlineLimit: 0, // the content-security policy allows no data: addresses
    chunkSizeWarningLimit: 1500,
    modulePreload: { polyfill: false },
  },
  server: { proxy: { "/v1": "http://127.0.0.1:8081", "/readyz": "http://127.0.0.1:8081" } },
  test: { environment: "jsdom", include: ["src/**/*.test.{ts,tsx}"] },
});

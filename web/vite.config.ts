import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { brotliCompressSync, gzipSync } from "node:zlib";
import react from "@vitejs/plugin-react";
import type { Plugin } from "vite";
import { defineConfig } from "vitest/config";

const outDir = "../internal/server/webui/dist";

/** compress writes a shorter form beside every asset that has one. */
function compress(): Plugin {
  return {
    name: "compress",
    apply: "build",
    closeBundle() {
      const assets = join(import.meta.dirname, outDir, "assets");
      for (const name of readdirSync(assets)) {
        if (!/\.(js|css|json|svg)$/.test(name)) continue;
        const text = readFileSync(join(assets, name));
        for (const [ending, short] of [
          ["br", brotliCompressSync(text)],
          ["gz", gzipSync(text, { level: 9 })],
        ] as const)
          if (short.length < text.length * 0.9) writeFileSync(join(assets, `${name}.${ending}`), short);
      }
    },
  };
}

export default defineConfig({
  plugins: [react(), compress()],
  html: { cspNonce: "__NONCE__" }, // the service puts a fresh one into each answer
  build: {
    outDir,
    emptyOutDir: true,
    assetsInlineLimit: 0, // the content-security policy allows no data: addresses
    chunkSizeWarningLimit: 1500,
    modulePreload: { polyfill: false },
    license: { fileName: "licenses.json" },
  },
  server: { proxy: { "/v1": "http://127.0.0.1:8081", "/readyz": "http://127.0.0.1:8081" } },
  test: {
    testTimeout: 600_000, // which only what hangs meets
    maxWorkers: 2,
    isolate: false, // loading the console takes longer than its tests
    projects: [
      { extends: true, test: { name: "rules", environment: "node", include: ["src/**/*.test.ts"] } },
      {
        extends: true,
        test: {
          name: "pages",
          environment: "jsdom",
          include: ["src/**/*.test.tsx"],
          setupFiles: ["src/testkit/setup.ts"],
        },
      },
    ],
    deps: {
      optimizer: {
        client: {
          enabled: true,
          include: [
            "antd",
            "react",
            "react-dom",
            "react-dom/client",
            "react/jsx-dev-runtime",
            "react-router",
            "@tanstack/react-query",
            "@testing-library/react",
            "@testing-library/user-event",
            "d3-geo",
          ],
        },
      },
    },
  },
});

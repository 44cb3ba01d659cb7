import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

export default defineConfig({
  plugins: [react(), tailwindcss()],
  build: {
    outDir: "../src/northgate/web/static",
    emptyOutDir: true,
    chunkSizeWarningLimit: 900,
    assetsInlineLimit: 0,
    // What every view stands on comes in one piece: many small ones cost a round trip each.
    rolldownOptions: { output: { codeSplitting: { groups: [{ name: "base", test: /node_modules.((react|react-dom|scheduler|openapi-fetch|zustand|react-hotkeys-hook|use-sync-external-store)[\\/]|@tanstack.(?!react-virtual|virtual)|lucide-react.dist.esm.(createLucideIcon|Icon|shared))/ }] } } },
  },
  server: { proxy: { "/api": "http://127.0.0.1:8420" } },
  // Tests of pure functions: nothing that one leaves behind can trouble another.
  test: { include: ["src/**/*.test.ts"], isolate: false, maxWorkers: 1 },
});

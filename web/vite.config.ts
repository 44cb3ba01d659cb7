import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

// What every view stands on.
const BASE = [
  /rolldown.runtime|vite.preload/,
  /node_modules.(react|react-dom|scheduler|openapi-fetch|zustand|react-hotkeys-hook|use-sync-external-store|lucide-react|wouter|regexparam)[\\/]/,
  /node_modules.@tanstack.(?!react-virtual|virtual)/,
  /src.(api|board|plan|kit)[\\/](?!deciding|bounds|cells|sheet-names|copyable|reading|rows|working)/,
];
// What a board loads once it is seen: forms, menus, what tells and finds.
const PANELS = [
  /node_modules.(sonner|cmdk|papaparse|react-remove-scroll|react-remove-scroll-bar|aria-hidden|use-sidecar|use-callback-ref|react-style-singleton|tslib|get-nonce|radix-ui|@radix-ui|@floating-ui)[\\/]/,
  /src.form[\\/]|src.shell.(palette|findable|keys-dialog)|src.kit.(copyable|reading|rows|working)|src.plan.(deciding|bounds|cells|sheet-names)|src.views.board.(inspector|what-if)/,
];
const among = (some: RegExp[]) => (id: string) => some.some((one) => one.test(id));

export default defineConfig({
  plugins: [react(), tailwindcss()],
  build: {
    outDir: "../src/northgate/web/static",
    emptyOutDir: true,
    chunkSizeWarningLimit: 900,
    assetsInlineLimit: 0,
    // Each piece costs a round trip, so there are few: what every view stands on, and what a view loads once it is seen.
    rolldownOptions: {
      output: {
        codeSplitting: {
          includeDependenciesRecursively: false,
          groups: [
            { name: "base", priority: 1, test: among(BASE) },
            { name: "panels", test: among(PANELS) },
          ],
        },
      },
    },
  },
  server: { proxy: { "/api": "http://127.0.0.1:8420" } },
  // Tests of pure functions: nothing that one leaves behind can trouble another.
  test: { include: ["src/**/*.test.ts"], isolate: false, maxWorkers: 1 },
});

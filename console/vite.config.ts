import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [react()],
  build: { outDir: "dist", emptyOutDir: true, chunkSizeWarningLimit: 800 },
  css: {
    preprocessorOptions: {
      // Bootstrap's own sources, not ours, use what Sass is about to drop.
      scss: { quietDeps: true, silenceDeprecations: ["import", "global-builtin", "color-functions", "if-function"] },
    },
  },
  server: { proxy: { "/v1": process.env.PIGEON_URL ?? "http://127.0.0.1:7410" } },
});

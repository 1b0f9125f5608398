import { defineConfig } from "vite";
import react from "@vitejs/plugin-react";

// The gateway serves what is built here under /console/, from its own binary.
export default defineConfig({
  base: "/console/",
  plugins: [react()],
  // Nothing is inlined: the console's content security policy has no data: fonts.
  build: { assetsInlineLimit: 0, outDir: "dist", emptyOutDir: true, chunkSizeWarningLimit: 1200 },
  server: { proxy: { "/control": "http://127.0.0.1:8400" } },
});

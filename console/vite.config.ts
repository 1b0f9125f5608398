import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { brotliCompressSync, gzipSync } from "node:zlib";
import react from "@vitejs/plugin-react";
import { defineConfig, type Plugin } from "vite";

/** Writes each asset compressed beside it, as the service sends it to browsers that take that. */
const compressed: Plugin = {
  name: "compressed",
  apply: "build",
  closeBundle() {
    const dir = join(import.meta.dirname, "dist/assets");
    for (const name of readdirSync(dir)) {
      if (!/\.(js|css)$/.test(name)) continue;
      const src = readFileSync(join(dir, name));
      writeFileSync(join(dir, name + ".br"), brotliCompressSync(src));
      writeFileSync(join(dir, name + ".gz"), gzipSync(src, { level: 9 }));
    }
  },
};

// The gateway serves what is built here under /console/, from its own binary.
export default defineConfig({
  base: "/console/",
  plugins: [react(), compressed],
  // Nothing is inlined: the console's content security policy has no data: fonts.
  build: { assetsInlineLimit: 0, outDir: "dist", emptyOutDir: true, chunkSizeWarningLimit: 1200 },
  server: { proxy: { "/control": "http://127.0.0.1:8400" } },
});

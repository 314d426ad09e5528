import { readdirSync, readFileSync, statSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { brotliCompressSync, gzipSync } from "node:zlib";

import tailwind from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig, type Plugin } from "vite";

// The codings that the service sends, made once and as short as they get, beside each file that is worth it.
const codings: Plugin = {
  name: "codings",
  apply: "build",
  closeBundle() {
    for (const entry of readdirSync("dist", { recursive: true, encoding: "utf8" })) {
      const file = join("dist", entry);
      if (!statSync(file).isFile() || statSync(file).size < 1024 || /\.(br|gz)$/.test(file)) continue;
      const data = readFileSync(file);
      writeFileSync(file + ".br", brotliCompressSync(data));
      writeFileSync(file + ".gz", gzipSync(data, { level: 9 }));
    }
  },
};

// Built below dist, which the Go package beside it puts into the binary. public/.gitkeep keeps that folder there.
export default defineConfig({
  base: "/-/console/",
  plugins: [react(), tailwind(), codings],
  build: { target: "es2022", chunkSizeWarningLimit: 800 },
});

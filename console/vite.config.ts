import tailwind from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

// Built below dist, which the Go package beside it puts into the binary. public/.gitkeep keeps that folder there.
export default defineConfig({
  base: "/-/console/",
  plugins: [react(), tailwind()],
  build: { target: "es2022", chunkSizeWarningLimit: 800 },
});

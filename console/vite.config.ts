import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

// The build goes into the folder that the service embeds. The note in it that
// says so stays, for a checkout without a build must still compile.
export default defineConfig({
  plugins: [react(), tailwindcss()],
  build: { target: "es2024", outDir: "dist", emptyOutDir: true, chunkSizeWarningLimit: 700, license: { fileName: "licences.txt" } },
  server: { proxy: { "/api": "http://127.0.0.1:7474" } },
});

import vue from "@vitejs/plugin-vue";
import { fileURLToPath } from "node:url";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [vue()],
  resolve: { alias: { "@": fileURLToPath(new URL("./src", import.meta.url)) } },
  server: { proxy: { "/api": process.env.NOMENTA_URL ?? "http://127.0.0.1:8636" } },
  // Fonts stay files: the service's content policy lets no page load `data:`.
  build: { chunkSizeWarningLimit: 1200, assetsInlineLimit: 0 },
});

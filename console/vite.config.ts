import vue from "@vitejs/plugin-vue";
import { readdirSync, readFileSync, statSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { fileURLToPath } from "node:url";
import { brotliCompressSync, gzipSync } from "node:zlib";
import { defineConfig, type Plugin } from "vite";

/** Files that are compressed already. */
const DENSE = /\.(woff2?|png|br|gz)$/;

/** Compresses each file beside itself, so that the service has nothing to compress. */
function compressed(): Plugin {
  return {
    name: "compressed",
    apply: "build",
    writeBundle({ dir = "dist" }) {
      for (const name of readdirSync(dir, { recursive: true, encoding: "utf8" })) {
        const path = join(dir, name);
        if (DENSE.test(name) || !statSync(path).isFile()) continue;
        const text = readFileSync(path);
        writeFileSync(`${path}.br`, brotliCompressSync(text));
        writeFileSync(`${path}.gz`, gzipSync(text, { level: 9 }));
      }
    },
  };
}

export default defineConfig({
  plugins: [vue(), compressed()],
  resolve: { alias: { "@": fileURLToPath(new URL("./src", import.meta.url)) } },
  server: { proxy: { "/api": process.env.NOMENTA_URL ?? "http://127.0.0.1:8636" } },
  // Fonts stay files: the service's content policy lets no page load `data:`.
  build: {
    chunkSizeWarningLimit: 1200,
    assetsInlineLimit: 0,
    rollupOptions: { input: ["index.html", "handoff.html"] },
  },
});

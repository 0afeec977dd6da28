import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { brotliCompressSync, constants, gzipSync } from "node:zlib";
import { svelte } from "@sveltejs/vite-plugin-svelte";
import tailwindcss from "@tailwindcss/vite";
import { defineConfig, type Plugin } from "vite";

const OUT = "../src/ultravect/service/static/console";

/** Writes each file once more, compressed: the service sends those to browsers that take them. */
function compressed(): Plugin {
  return {
    name: "compressed",
    apply: "build",
    closeBundle() {
      const folder = join(__dirname, OUT, "assets");
      for (const name of readdirSync(folder)) {
        if (!/\.(js|css)$/.test(name)) continue;
        const data = readFileSync(join(folder, name));
        writeFileSync(join(folder, `${name}.gz`), gzipSync(data, { level: 9 }));
        writeFileSync(join(folder, `${name}.br`), brotliCompressSync(data, { params: { [constants.BROTLI_PARAM_QUALITY]: 11 } }));
      }
    },
  };
}

export default defineConfig({
  base: "/static/console/",
  plugins: [tailwindcss(), svelte(), compressed()],
  build: { outDir: OUT, emptyOutDir: true, chunkSizeWarningLimit: 900 },
});

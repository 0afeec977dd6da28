import { svelte } from "@sveltejs/vite-plugin-svelte";
import tailwindcss from "@tailwindcss/vite";
import { defineConfig } from "vite";

export default defineConfig({
  base: "/static/console/",
  plugins: [tailwindcss(), svelte()],
  build: {
    outDir: "../src/ultravect/service/static/console",
    emptyOutDir: true,
    chunkSizeWarningLimit: 900,
  },
});

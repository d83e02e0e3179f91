import tailwind from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [react(), tailwind()],
  // Small files inlined as data addresses would be refused by the page's policy.
  // How long a plugin takes is of no interest to whoever builds.
  build: {
    assetsInlineLimit: 0,
    chunkSizeWarningLimit: 900,
    rolldownOptions: { checks: { pluginTimings: false } },
  },
});

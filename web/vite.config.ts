import { defineConfig } from "vitest/config";
import react from "@vitejs/plugin-react";
import tailwindcss from "@tailwindcss/vite";

export default defineConfig({
  plugins: [react(), tailwindcss()],
  build: { outDir: "dist", emptyOutDir: true, chunkSizeWarningLimit: 600 },
  server: { proxy: { "/api": { target: "http://127.0.0.1:4380", ws: true } } },
  test: { environment: "jsdom", include: ["src/**/*.test.{ts,tsx}"] },
});

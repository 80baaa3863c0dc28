import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

export default defineConfig(({ command }) => ({
  base: command === "build" ? "/static/" : "/",
  plugins: [react()],
  build: { outDir: "dist", chunkSizeWarningLimit: 900 },
  // None of them touches what others share: a process for each file takes four times as long as all that is in them.
  // A loaded machine may take its time: nothing here is about how soon.
  test: { isolate: false, testTimeout: 120_000 },
  server: {
    fs: { allow: [".."] },
    host: "127.0.0.1",
    port: 5173,
    proxy: { "/api": { target: "http://127.0.0.1:8000" } },
  },
}));

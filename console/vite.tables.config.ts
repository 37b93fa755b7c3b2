import { defineConfig } from 'vite'

// What computes in the console, as one script for the tests, which try it by tables in a browser (e2e/tables_test.go).
export default defineConfig({
  define: { 'process.env.NODE_ENV': '"production"' },
  build: { outDir: 'dist-tables', emptyOutDir: true, minify: false, lib: { entry: 'src/tables.ts', name: 'tables', formats: ['iife'], fileName: () => 'tables.js' } },
})

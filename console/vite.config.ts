import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vite'

// The build goes where console.go embeds it from. `npm run dev` asks a service on its usual port.
export default defineConfig({
  plugins: [vue()],
  build: { outDir: 'dist', emptyOutDir: false, chunkSizeWarningLimit: 1200 },
  server: { proxy: { '/api': { target: 'http://127.0.0.1:7400', changeOrigin: true } } },
})

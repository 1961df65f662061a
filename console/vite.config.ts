import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vite'

export default defineConfig({
  plugins: [vue()],
  build: { target: 'es2022', chunkSizeWarningLimit: 900 },
  // For work on the console: KAMBREL_SERVICE=http://127.0.0.1:7600 npx vite
  server: { proxy: { '/api': process.env.KAMBREL_SERVICE ?? 'http://127.0.0.1:7600' } },
})

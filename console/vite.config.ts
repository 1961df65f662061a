import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vitest/config'

import { translate } from './texts.ts'

export default defineConfig({
  plugins: [vue({ template: { compilerOptions: { nodeTransforms: [translate] } } })],
  build: { target: 'es2022', chunkSizeWarningLimit: 900 },
  test: { environment: 'happy-dom', setupFiles: ['src/testing/setup.ts'] },
  // For work on the console: KAMBREL_SERVICE=http://127.0.0.1:7600 npx vite
  server: { proxy: { '/api': process.env.KAMBREL_SERVICE ?? 'http://127.0.0.1:7600' } },
})

import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vite'

export default defineConfig({
  plugins: [vue()],
  resolve: { conditions: ['spoor-source', 'module', 'browser', 'import', 'default'] },
  // The server puts a fresh nonce in the place of this word with every page.
  html: { cspNonce: '__NONCE__' },
  build: { target: 'es2023', sourcemap: false, chunkSizeWarningLimit: 900 },
  server: { proxy: { '/api': process.env['SPOOR_DEV_SERVER'] ?? 'http://127.0.0.1:4310' } },
})

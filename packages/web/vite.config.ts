import { readFileSync, readdirSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { brotliCompressSync, gzipSync } from 'node:zlib'
import vue from '@vitejs/plugin-vue'
import { defineConfig, type Plugin } from 'vite'

/** Scripts and styles lie compressed beside themselves, so that nobody waits for it when they are sent. */
function compressed(): Plugin {
  let directory = ''
  return {
    name: 'compressed',
    apply: 'build',
    configResolved: ({ root, build }) => void (directory = join(root, build.outDir, build.assetsDir)),
    closeBundle() {
      for (const name of readdirSync(directory).filter((one) => /\.(js|css)$/.test(one))) {
        const file = join(directory, name)
        const content = readFileSync(file)
        writeFileSync(`${file}.br`, brotliCompressSync(content))
        writeFileSync(`${file}.gz`, gzipSync(content))
      }
    },
  }
}

export default defineConfig({
  plugins: [vue(), compressed()],
  resolve: { conditions: ['spoor-source', 'module', 'browser', 'import', 'default'] },
  // The server puts a fresh nonce in the place of this word with every page.
  html: { cspNonce: '__NONCE__' },
  build: { target: 'es2023', sourcemap: false, chunkSizeWarningLimit: 900 },
  server: { proxy: { '/api': process.env['SPOOR_DEV_SERVER'] ?? 'http://127.0.0.1:4310' } },
})

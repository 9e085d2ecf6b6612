import { readFile, readdir, writeFile } from 'node:fs/promises'
import { join } from 'node:path'
import { promisify } from 'node:util'
import { brotliCompress, gzip } from 'node:zlib'
import vue from '@vitejs/plugin-vue'
import { defineConfig, type Plugin } from 'vite'

/** Scripts and styles lie compressed beside themselves, so that nobody waits for it when they are sent. */
function compressed(): Plugin {
  let directory = ''
  return {
    name: 'compressed',
    apply: 'build',
    configResolved: ({ root, build }) => void (directory = join(root, build.outDir, build.assetsDir)),
    async closeBundle() {
      const files = (await readdir(directory))
        .filter((one) => /\.(js|css)$/.test(one))
        .map((one) => join(directory, one))
      // All at once, so that every core has a part of it.
      await Promise.all(
        files.map(async (file) => {
          const content = await readFile(file)
          await Promise.all([
            writeFile(`${file}.br`, await promisify(brotliCompress)(content)),
            writeFile(`${file}.gz`, await promisify(gzip)(content)),
          ])
        }),
      )
    },
  }
}

export default defineConfig({
  plugins: [vue(), compressed()],
  resolve: { conditions: ['spoor-source', 'module', 'browser', 'import', 'default'] },
  // The server puts a fresh nonce in the place of this word with every page.
  html: { cspNonce: '__NONCE__' },
  build: {
    target: 'es2023',
    sourcemap: false,
    chunkSizeWarningLimit: 900,
    rolldownOptions: {
      output: {
        // Each file that a page begins with is asked for and answered on its own: the fewer, the sooner it stands.
        codeSplitting: {
          groups: [{ name: 'libraries', tags: ['$initial'], test: /node_modules[\\/](?!chrono-node|diff|big\.js)/ }],
        },
      },
    },
  },
  server: { proxy: { '/api': process.env['SPOOR_DEV_SERVER'] ?? 'http://127.0.0.1:4310' } },
})

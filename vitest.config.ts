import { defineConfig } from 'vitest/config'

const conditions = ['spoor-source']
const resolve = { conditions: [...conditions, 'module', 'node', 'import', 'default'] }
const shared = { resolve, ssr: { resolve: { conditions } } }

export default defineConfig({
  test: {
    maxWorkers: 2,
    projects: [
      {
        ...shared,
        test: {
          name: 'core',
          include: ['packages/{core,contract,client,verify,web}/src/**/*.test.ts'],
          environment: 'node',
          // Properties are tried hundreds of times; a busy machine takes long for some, and that is no failure.
          testTimeout: 60_000,
        },
      },
      {
        ...shared,
        test: {
          name: 'server',
          include: ['packages/{server,demo}/{src,test}/**/*.test.ts'],
          environment: 'node',
          globalSetup: ['./packages/server/test/cluster.ts'],
          // A machine may be three times as slow for some minutes; what takes longer than it should is seen by benchmarks.
          testTimeout: 180_000,
          hookTimeout: 240_000,
          // What is waited for comes late on a busy machine; that it comes is what is asserted.
          expect: { poll: { timeout: 20_000 } },
          pool: 'forks',
          env: { SPOOR_CHECK_ANSWERS: '1' },
        },
      },
    ],
  },
})

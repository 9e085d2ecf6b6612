import { dirname, join } from 'node:path'
import { fileURLToPath, pathToFileURL } from 'node:url'
import type { TestProject } from 'vitest/node'
import { migrate } from '../src/schema/migrate.ts'
import { ownerUrlOf, prepareCluster, templateName } from './names.ts'

declare module 'vitest' {
  interface ProvidedContext {
    clusterUrl: string
  }
}

const root = dirname(dirname(dirname(dirname(fileURLToPath(import.meta.url)))))

interface Cluster {
  url(database: string): string
  stop(): Promise<void>
}

/** One cluster for all suites: given by SPOOR_TEST_CLUSTER_URL, or a private one of its own. */
export default async function setup(project: TestProject): Promise<() => Promise<void>> {
  let stop = async () => undefined as void
  let url = process.env['SPOOR_TEST_CLUSTER_URL']
  if (!url) {
    const { startCluster } = (await import(pathToFileURL(join(root, 'scripts/lib/cluster.mjs')).href)) as {
      startCluster(options: { dataDir: string; settings: string[] }): Promise<Cluster>
    }
    const cluster = await startCluster({
      dataDir: join(root, '.spoor-test'),
      settings: ['fsync=off', 'max_connections=200'],
    })
    url = cluster.url('postgres')
    stop = cluster.stop
  }
  await prepareCluster(url)
  await migrate(ownerUrlOf(url, templateName), { application: 'spoor_test_app', erasure: 'spoor_test_eraser' })
  project.provide('clusterUrl', url)
  return stop
}

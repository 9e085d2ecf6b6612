import { fileURLToPath } from 'node:url'
import { Worker } from 'node:worker_threads'
import type { PaperCell, PaperWanted } from './paper.ts'
import type { PaperAsked, PaperTold } from './thread.ts'

/** Threads run what was built, also where the rest runs from TypeScript, in tests. */
const threadFile = fileURLToPath(new URL('./thread.js', import.meta.url)).replace(
  /([\\/])src([\\/]packs[\\/])/,
  '$1dist$2',
)
const rowsAtOnce = 200

/**
 * A pack as PDF/A-3, set in a thread of its own.
 * @param onRows told how many changes are set; what it throws stops the thread
 */
export async function* printed(
  wanted: PaperWanted,
  rows: AsyncIterable<readonly PaperCell[]>,
  onRows: (rows: number) => Promise<void>,
): AsyncGenerator<Uint8Array> {
  const thread = new Worker(threadFile, { execArgv: [] })
  const chunks: Uint8Array[] = []
  let settle: ((told: PaperTold | Error) => void) | null = null
  const told: (PaperTold | Error)[] = []
  const hear = (one: PaperTold | Error) => {
    if (!(one instanceof Error) && 'chunk' in one) return void chunks.push(one.chunk)
    if (settle) settle(one)
    else told.push(one)
    settle = null
  }
  thread.on('message', hear)
  thread.on('error', hear)
  thread.on('exit', () => hear(new Error('the thread that sets packs for paper stopped')))
  const ask = async (asked: PaperAsked): Promise<void> => {
    thread.postMessage(asked)
    const answer = told.shift() ?? (await new Promise<PaperTold | Error>((done) => (settle = done)))
    if (answer instanceof Error) throw answer
    if ('trouble' in answer) throw new Error(`the pack could not be set for paper: ${answer.trouble}`)
  }
  try {
    await ask({ begin: wanted })
    let [batch, count]: [(readonly PaperCell[])[], number] = [[], 0]
    for await (const row of rows) {
      batch.push(row)
      count++
      if (batch.length < rowsAtOnce) continue
      await ask({ rows: batch })
      await onRows(count)
      batch = []
      yield* chunks.splice(0)
    }
    await ask({ rows: batch })
    await ask({ end: true })
    yield* chunks.splice(0)
  } finally {
    await thread.terminate()
  }
}

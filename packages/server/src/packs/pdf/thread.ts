import { parentPort } from 'node:worker_threads'
import { Paper, type PaperCell, type PaperWanted } from './paper.ts'

/** A thread that sets a pack for paper, since that takes long and the server has others to answer. */

export type PaperAsked = { begin: PaperWanted } | { rows: (readonly PaperCell[])[] } | { end: true }
export type PaperTold = { chunk: Uint8Array } | { ready: true } | { done: true } | { trouble: string }

const port = parentPort!
const tell = (told: PaperTold) => port.postMessage(told)
let paper: Paper | null = null

port.on('message', (asked: PaperAsked) => {
  try {
    if ('begin' in asked)
      paper = new Paper(
        asked.begin,
        (chunk) => tell({ chunk: Uint8Array.from(chunk) }),
        () => tell({ done: true }),
      )
    else if ('rows' in asked) for (const row of asked.rows) paper!.row(row)
    else {
      // It answers when the last of it is written.
      paper!.end()
      return
    }
    tell({ ready: true })
  } catch (error) {
    tell({ trouble: (error as Error).message })
  }
})

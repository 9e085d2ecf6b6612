import { parentPort, workerData } from 'node:worker_threads'
import { SlicesHere, type SliceAnswer, type SliceWanted } from './slices.ts'

/** A thread that reads and recomputes slices of the ledger, one after another. */
const here = new SlicesHere((workerData as { url: string }).url)

parentPort!.on('message', ({ from, to }: SliceWanted) => {
  const answer = (message: SliceAnswer) => parentPort!.postMessage(message)
  here.read(from, to).then(
    (slice) => answer({ slice }),
    (error: Error) => answer({ trouble: error.message }),
  )
})

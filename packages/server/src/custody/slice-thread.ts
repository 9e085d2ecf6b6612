import { parentPort, workerData } from 'node:worker_threads'
import { SlicesHere, type ThreadAnswer, type ThreadWork } from './slices.ts'

/** A thread that reads and recomputes slices of the ledger, one after another. */
const here = new SlicesHere((workerData as { url: string }).url)

parentPort!.on('message', (work: ThreadWork) => {
  const answer = (message: ThreadAnswer) => parentPort!.postMessage(message)
  const working = 'read' in work ? here.read(work.read) : here.stored(work.stored)
  working.then(
    (done) => answer({ done }),
    (error: Error) => answer({ trouble: error.message }),
  )
})

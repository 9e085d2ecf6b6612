import { Readable } from 'node:stream'
import { pipeline } from 'node:stream/promises'
import type { Response } from 'express'

type Steps = readonly [source: AsyncIterable<unknown>, ...transforms: NodeJS.ReadWriteStream[]]

/** Sends what is read from the first, through the others, as a file, while it is read. */
export async function sendDownload(response: Response, [source, ...transforms]: Steps): Promise<void> {
  await pipeline([Readable.from(source), ...transforms, response]).catch((error: unknown) => {
    // The reader stopped the download: nothing to answer any more. Otherwise break off, so that the file is not taken for whole.
    response.destroy()
    if ((error as NodeJS.ErrnoException).code !== 'ERR_STREAM_PREMATURE_CLOSE') throw error
  })
}

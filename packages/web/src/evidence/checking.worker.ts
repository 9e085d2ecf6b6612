import { checkPack, type PackReport, type PartedFile } from '@spoor/core'
import { packToolsWithTime } from '../custody/proving.ts'

/** What the page asks for, and what it is told. */
export interface CheckWish {
  file: File
  key: string | null
}
export type CheckTold = { progress: number } | { report: PackReport } | { trouble: string }

const tell = (told: CheckTold) => self.postMessage(told)

/** Progress is told so often at most. */
const tellEveryMs = 100

self.onmessage = async ({ data: { file, key } }: MessageEvent<CheckWish>) => {
  let toldMs = 0
  const parts: PartedFile = {
    size: file.size,
    read: async (from, to) => new Uint8Array(await file.slice(from, to).arrayBuffer()),
  }
  try {
    const report = await checkPack(parts, await packToolsWithTime(), {
      key: key ?? undefined,
      nowMs: Date.now(),
      onProgress(read, size) {
        const nowMs = performance.now()
        if (nowMs - toldMs < tellEveryMs) return
        toldMs = nowMs
        tell({ progress: read / size })
      },
    })
    tell({ report })
  } catch (error) {
    tell({ trouble: (error as Error).message })
  }
}

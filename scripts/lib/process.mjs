import { readFileSync } from 'node:fs'

/** The program a process runs, or null when it is gone; one that has ended and only waits to be noticed is gone. */
export function programOf(pid) {
  if (!Number.isInteger(pid) || pid <= 0) return null
  let stat
  try {
    stat = readFileSync(`/proc/${pid}/stat`, 'utf8')
  } catch (error) {
    if (error.code === 'ENOENT' || error.code === 'ESRCH') return null
    throw error
  }
  const [, program, state] = /^\d+ \((.*)\) (\S)/s.exec(stat) ?? []
  return state === 'Z' || state === 'X' ? null : (program ?? null)
}

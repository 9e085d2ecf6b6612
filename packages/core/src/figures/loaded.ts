import Big from 'big.js'
import { isDate } from '../time/zone.ts'
import { isDecimal } from '../value/difference.ts'
import { meanOf } from './over-time.ts'

/** A figure of a day that somebody brought along. */
export interface LoadedFigure {
  day: string
  figure: string
}

const mostLines = 10_000

/**
 * Figures from a file: a day (`YYYY-MM-DD`) and a plain number a line, parted by a comma, a semicolon or a tab; a first line
 * of headings is passed over.
 * @returns words for what is wrong, if anything is: a line that is not understood is never guessed
 */
export function readFigures(text: string): LoadedFigure[] | string {
  const lines = text.replace(/^\uFEFF/, '').split(/\r?\n/)
  if (lines.length > mostLines) return `The file has more than ${mostLines} lines. Nothing was loaded.`
  const figures = new Map<string, string>()
  for (const [at, line] of lines.entries()) {
    if (line.trim() === '') continue
    const [day = '', figure = '', ...more] = line.split(/[,;\t]/).map((cell) => cell.trim().replace(/^"(.*)"$/, '$1'))
    if (at === 0 && !isDate(day)) continue
    if (!isDate(day)) return `Line ${at + 1} does not begin with a day as 2026-04-01. Nothing was loaded.`
    if (more.length > 0 || !isDecimal(figure))
      return `Line ${at + 1} has no plain number after its day, as 1234.50. Nothing was loaded.`
    if (figures.has(day)) return `Line ${at + 1} gives ${day} a second figure. Nothing was loaded.`
    figures.set(day, figure)
  }
  if (figures.size === 0) return 'The file holds no figures: a day and a number a line are looked for.'
  return [...figures].map(([day, figure]) => ({ day, figure })).sort((a, b) => (a.day < b.day ? -1 : 1))
}

/** The means of the figures before a day and from it on, as many of each as there are on the shorter side. */
export function beforeAndAfter(
  figures: readonly LoadedFigure[],
  day: string,
): { many: number; before: string; after: string; difference: string } | null {
  const [before, after] = [figures.filter((one) => one.day < day), figures.filter((one) => one.day >= day)]
  const many = Math.min(before.length, after.length)
  if (many === 0) return null
  const mean = (list: readonly LoadedFigure[]) =>
    meanOf(list.reduce((sum, { figure }) => sum.plus(figure), new Big(0)).toFixed(), many)!
  const [a, b] = [mean(before.slice(-many)), mean(after.slice(0, many))]
  return { many, before: a, after: b, difference: new Big(b).minus(a).toFixed() }
}

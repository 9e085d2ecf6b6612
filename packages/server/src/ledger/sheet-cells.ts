import { valueKind, wallClock } from '@spoor/core'
import type { Cell } from 'write-excel-file/node'

/** Cells of a workbook: numbers and days as such, everything else as text, which no sheet reckons with. */

/** Digits that a number of a sheet keeps. */
const mostDigits = 15
const plainNumber = /^-?\d+(\.\d+)?$/
const plainDay = /^(19[0-9]{2}|[2-9]\d{3})-\d\d-\d\d$/
/** Characters that a cell holds. */
const longestCell = 32_000

/** What no sheet can hold, marked where it stood. */
export const sheetText = (text: string) => {
  // eslint-disable-next-line no-control-regex
  const held = text.replace(/[\x00-\x08\x0b\x0c\x0e-\x1f\ufffe\uffff\uD800-\uDFFF]/gu, '\ufffd')
  return held.length <= longestCell
    ? held
    : `${held.slice(0, longestCell)} … and ${held.length - longestCell} more characters`
}

export const textCell = (text: string): Cell => ({ value: sheetText(text), type: String })

/** A value by its type; a number only where a sheet keeps all of its digits. */
export function valueCell(value: string, baseType: string): Cell {
  const kind = valueKind(baseType)
  if (kind === 'number' && plainNumber.test(value) && value.replace(/[-.]|^-?0+(?=\d)/g, '').length <= mostDigits)
    return { value: Number(value), type: Number }
  if (kind === 'date' && plainDay.test(value))
    return { value: new Date(`${value}T00:00:00Z`), type: Date, format: 'yyyy-mm-dd' }
  return textCell(value)
}

/** An instant as the clock of a zone showed it, since a sheet knows no zones. */
export function clockCell(instant: string, zone: string): Cell {
  const { date, time } = wallClock(Date.parse(instant), zone)
  return { value: new Date(`${date}T${time}Z`), type: Date, format: 'yyyy-mm-dd hh:mm:ss' }
}

/** What a sheet may be called: 31 characters at most, and not these. */
export const sheetName = (name: string) =>
  sheetText(name)
    .replace(/[\\/*?:[\]]/g, ' ')
    .slice(0, 31)

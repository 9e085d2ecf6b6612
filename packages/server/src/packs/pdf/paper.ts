import PDFDocument from 'pdfkit'
import { coverRows, grouped, howToCheck, type PackCover } from '@spoor/core'
import { Faces, type FaceDocument, type Line, type Style } from './faces.ts'

/** A pack to be read on paper: its first page, then its changes. Lengths are points. */

export interface PaperColumn {
  head: string
  /** Its share of the width. */
  weight: number
  mono: boolean
  /** Figures stand below one another at their ends. */
  right?: true
}

/** A table beside the changes, of which the first column says what a line is of. */
export interface PaperTable {
  title: string
  /** The file that has all of it. */
  file: string
  columns: readonly { name: string; mono: boolean }[]
  rows: readonly (readonly PaperCell[])[]
  /** Lines that are left out of it. */
  left: number
}

export interface PaperWanted {
  cover: PackCover
  tables: readonly PaperTable[]
  columns: readonly PaperColumn[]
  /** Changes that are left out of it. */
  left: number
  /** What was said of them, a paragraph each. */
  said: readonly string[]
}

/** A cell; null is nothing. */
export type PaperCell = string | null

const [ink, soft, hair] = ['#17211e', '#55615c', '#d9ddd8']
const margin = { left: 42, top: 58, bottom: 48 }
const size = { body: 9.5, cell: 7.6, title: 17, head: 11 }
const leading = 1.36
const gutter = 6
/** What fits across a page that stands. */
const acrossWeight = 10
/** Figures beside the first column of what was worked out; further ones stand below. */
const figuresAcross = 8
const firstWeight = 2.2

type Struct = PDFKit.PDFStructureElement

export class Paper {
  readonly #doc: PDFKit.PDFDocument
  readonly #faces: Faces
  readonly #wanted: PaperWanted
  readonly #root: Struct
  #columns: readonly PaperColumn[] = []
  #widths: readonly number[] = []
  #table: Struct | null = null
  #y = margin.top

  /** @param done called when the last of it was taken */
  constructor(wanted: PaperWanted, take: (chunk: Uint8Array) => void, done: () => void) {
    const { cover, columns } = wanted
    const weight = columns.reduce((sum, column) => sum + column.weight, 0)
    this.#doc = new PDFDocument({
      size: 'A4',
      layout: weight > acrossWeight ? 'landscape' : 'portrait',
      margin: 0,
      bufferPages: true,
      pdfVersion: '1.7',
      subset: 'PDF/A-3a',
      tagged: true,
      lang: 'en-GB',
      displayTitle: true,
      font: null as never,
      info: {
        Title: `Evidence pack ${cover.number}: ${cover.title}`,
        Author: cover.madeBy,
        Subject: cover.sentence,
        CreationDate: new Date(cover.madeAt),
        ModDate: new Date(cover.madeAt),
      },
    } as PDFKit.PDFDocumentOptions)
    this.#doc.on('data', (chunk: Uint8Array) => take(chunk))
    this.#doc.on('end', done)
    this.#faces = new Faces(this.#doc as unknown as FaceDocument)
    this.#wanted = wanted
    this.#root = this.#doc.struct('Document')
    this.#doc.addStructure(this.#root)
    this.#firstPage()
  }

  get #across(): number {
    return this.#doc.page.width - 2 * margin.left
  }

  get #floor(): number {
    return this.#doc.page.height - margin.bottom
  }

  #newPage(): void {
    this.#doc.addPage()
    this.#y = margin.top
  }

  #draw(line: Line, x: number, y: number, width: number, points: number, colour: string): void {
    let at = line.rtl ? x + Math.max(0, width - line.width) : x
    for (const run of line.runs) {
      this.#doc.font(run.face).fontSize(points).fillColor(colour)
      // Faces stand on one line whatever their heights.
      this.#doc.text(run.text, at, y + points, { lineBreak: false, baseline: 'alphabetic' })
      at += run.width
    }
  }

  /** A paragraph across the page, on as many pages as it takes. */
  #paragraph(tag: string, style: Style, points: number, text: string, colour = ink): void {
    const lines = this.#faces.lines(style, points, text, this.#across)
    const element = this.#doc.struct(tag)
    this.#root.add(element)
    for (const line of lines) {
      if (this.#y + points * leading > this.#floor) this.#newPage()
      element.add(() => this.#draw(line, margin.left, this.#y, this.#across, points, colour))
      this.#y += points * leading
    }
    element.end()
  }

  #firstPage(): void {
    const { cover } = this.#wanted
    this.#paragraph('H1', 'strong', size.title, cover.title)
    this.#y += 4
    this.#paragraph('P', 'text', size.head, cover.sentence)
    this.#y += 8
    for (const { name, words } of coverRows(cover)) this.#fact(name, words.join('\n'))
    this.#y += 8
    this.#paragraph('H2', 'strong', size.head, 'How to check this yourself')
    this.#y += 2
    for (const words of howToCheck(cover)) this.#paragraph('P', 'text', size.body, words)
    this.#y += 8
    this.#paragraph('H2', 'strong', size.head, 'What else is in it')
    this.#y += 2
    for (const { name, what } of cover.files) this.#paragraph('P', 'text', size.body, `${name}: ${what}`)
    for (const table of this.#wanted.tables) this.#beside(table)
    this.#y += 10
    this.#paragraph('H2', 'strong', size.head, 'The changes')
    this.#y += 4
    const { left } = this.#wanted
    if (left > 0)
      this.#paragraph(
        'P',
        'text',
        size.body,
        `The first ${grouped(cover.holds.changes - left)} of ${grouped(cover.holds.changes)}: paper has no room for more. All of them are in data/saves.ndjson.`,
      )
    if (cover.holds.changes === 0) this.#paragraph('P', 'text', size.body, 'There is none.')
    else this.#begin(this.#wanted.columns)
  }

  /** A table that stands beside the changes. */
  #beside({ title, file, columns, rows, left }: PaperTable): void {
    this.#y += 10
    this.#paragraph('H2', 'strong', size.head, title)
    this.#y += 2
    if (left > 0)
      this.#paragraph(
        'P',
        'text',
        size.body,
        `The first ${grouped(rows.length)} of ${grouped(rows.length + left)} lines: paper has no room for more. All of them are in ${file}.`,
      )
    for (let from = 1; from === 1 || from < columns.length; from += figuresAcross) {
      const shown = [0, ...columns.keys()].filter((at, n) => n === 0 || (at >= from && at < from + figuresAcross))
      this.#y += 4
      this.#begin(
        shown.map((at) => ({
          head: columns[at]!.name,
          weight: at === 0 ? firstWeight : 1,
          mono: columns[at]!.mono,
          ...(columns[at]!.mono && { right: true as const }),
        })),
      )
      for (const row of rows) this.row(shown.map((at) => row[at] ?? null))
      this.#table?.end()
      this.#table = null
    }
  }

  #fact(name: string, words: string): void {
    const label = 84
    const lines = this.#faces.lines('text', size.body, words, this.#across - label)
    const named = this.#faces.lines('text', size.body, `${name} `, label)[0]!
    const element = this.#doc.struct('P')
    this.#root.add(element)
    lines.forEach((line, at) => {
      if (this.#y + size.body * leading > this.#floor) this.#newPage()
      element.add(() => {
        if (at === 0) this.#draw(named, margin.left, this.#y, label, size.body, soft)
        this.#draw(line, margin.left + label, this.#y, this.#across - label, size.body, ink)
      })
      this.#y += size.body * leading
    })
    element.end()
    this.#y += 2
  }

  /** A table of these columns, across the page, with its heads. */
  #begin(columns: readonly PaperColumn[]): void {
    const weight = columns.reduce((sum, column) => sum + column.weight, 0)
    const room = this.#across - gutter * Math.max(0, columns.length - 1)
    this.#columns = columns
    this.#widths = columns.map((column) => (room * column.weight) / weight)
    this.#table = this.#doc.struct('Table')
    this.#root.add(this.#table)
    this.#cells(
      columns.map(({ head }, at) => this.#faces.lines('text', size.cell, head, this.#widths[at]!)),
      'TH',
      soft,
    )
  }

  /** A line of the table that was begun. */
  row(cells: readonly PaperCell[]): void {
    const lines = this.#columns.map(({ mono }, at) =>
      this.#faces.lines(mono ? 'mono' : 'text', size.cell, cells[at] ?? 'nothing', this.#widths[at]!),
    )
    this.#cells(lines, 'TD', ink, (at) => (cells[at] === null ? soft : ink))
  }

  /** A row of the table, cut where a page ends. */
  #cells(lines: readonly Line[][], tag: 'TH' | 'TD', colour: string, colourOf = (_at: number) => colour): void {
    const height = size.cell * leading
    const most = Math.max(...lines.map((cell) => cell.length))
    const row = this.#doc.struct('TR')
    this.#table!.add(row)
    const elements = lines.map(() => {
      const cell = this.#doc.struct(tag)
      row.add(cell)
      return cell
    })
    for (let from = 0; from < most;) {
      let room = Math.floor((this.#floor - this.#y - 4) / height)
      if (room < 1 || (from === 0 && room < Math.min(most, 3))) {
        this.#newPage()
        if (tag === 'TD') this.#repeatHeads()
        room = Math.floor((this.#floor - this.#y - 4) / height)
      }
      const to = Math.min(most, from + room)
      let x = margin.left
      lines.forEach((cell, at) => {
        const part = cell.slice(from, to)
        // Called at once, since its row is in the document already.
        elements[at]!.add(() =>
          part.forEach((line, n) =>
            this.#draw(
              line,
              x + this.#indent(at, line),
              this.#y + n * height,
              this.#widths[at]!,
              size.cell,
              colourOf(at),
            ),
          ),
        )
        x += this.#widths[at]! + gutter
      })
      this.#y += (to - from) * height + 2
      from = to
    }
    for (const element of [...elements, row]) element.end()
    this.#rule()
  }

  #indent(column: number, line: Line): number {
    return this.#columns[column]!.right ? Math.max(0, this.#widths[column]! - line.width) : 0
  }

  #repeatHeads(): void {
    this.#artifact(() => {
      let x = margin.left
      this.#columns.forEach(({ head }, at) => {
        const line = this.#faces.lines('text', size.cell, head, this.#widths[at]!)[0]!
        this.#draw(line, x + this.#indent(at, line), this.#y, this.#widths[at]!, size.cell, soft)
        x += this.#widths[at]! + gutter
      })
    })
    this.#y += size.cell * leading + 2
    this.#rule()
  }

  #rule(): void {
    this.#artifact(() =>
      this.#doc
        .moveTo(margin.left, this.#y)
        .lineTo(this.#doc.page.width - margin.left, this.#y)
        .lineWidth(0.5)
        .strokeColor(hair)
        .stroke(),
    )
    this.#y += 3
  }

  #saidOfThem(): void {
    const { said } = this.#wanted
    if (said.length === 0) return
    this.#y += 12
    this.#paragraph('H2', 'strong', size.head, 'What was said of them')
    this.#y += 2
    for (const words of said) {
      this.#paragraph('P', 'text', size.body, words)
      this.#y += 3
    }
  }

  /** What is no content of its own: rules, running heads. */
  #artifact(draw: () => void, options: object = { type: 'Layout' }): void {
    this.#doc.markContent('Artifact', options as never)
    draw()
    this.#doc.endMarkedContent()
  }

  end(): void {
    this.#table?.end()
    this.#saidOfThem()
    this.#root.end()
    const { start, count } = this.#doc.bufferedPageRange()
    for (let page = start; page < start + count; page++) {
      this.#doc.switchToPage(page)
      this.#artifact(
        () => {
          const side = (text: string, right: boolean) => {
            const [line] = this.#faces.lines('text', 8, text, this.#across)
            const x = right ? this.#doc.page.width - margin.left - line!.width : margin.left
            this.#draw({ ...line!, rtl: false }, x, 30, this.#across, 8, soft)
          }
          side(`Spoor · evidence pack ${this.#wanted.cover.number}`, false)
          side(`page ${page - start + 1} of ${count}`, true)
        },
        { type: 'Pagination', attached: ['Top'] },
      )
    }
    const { cover } = this.#wanted
    this.#doc.file(Buffer.from(`${JSON.stringify(cover, null, 1)}\n`), {
      name: 'cover.json',
      type: 'application/json',
      description: 'The first page, for programs',
      relationship: 'Data',
      creationDate: new Date(cover.madeAt),
      modifiedDate: new Date(cover.madeAt),
    } as never)
    this.#doc.end()
  }
}

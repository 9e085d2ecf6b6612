import { readFileSync } from 'node:fs'
import { createRequire } from 'node:module'
import type { Bidi } from 'bidi-js'

/** The faces that are shipped, and which of them has which character. */

const require = createRequire(import.meta.url)
export type Style = 'text' | 'strong' | 'mono'

/** Files of a package of faces, the first that has a character sets it. */
const files: Readonly<Record<Style, readonly [name: string, file: string][]>> = {
  text: ['latin-400', 'latin-ext-400'].map((file) => ['atkinson-hyperlegible-next', file]),
  strong: ['latin-700', 'latin-ext-700'].map((file) => ['atkinson-hyperlegible-next', file]),
  mono: ['latin-400', 'latin-ext-400'].map((file) => ['atkinson-hyperlegible-mono', file]),
}
/** For everything that those do not have. */
const others: readonly [name: string, file: string][] = [
  ['noto-sans', 'latin-400'],
  ['noto-sans', 'latin-ext-400'],
  ['noto-sans', 'greek-400'],
  ['noto-sans', 'greek-ext-400'],
  ['noto-sans', 'cyrillic-400'],
  ['noto-sans', 'cyrillic-ext-400'],
  ['noto-sans', 'vietnamese-400'],
  ['noto-sans', 'devanagari-400'],
  ['noto-sans-hebrew', 'hebrew-400'],
  ['noto-sans-arabic', 'arabic-400'],
]

/** What is used of a document, and of its faces, whose own types leave it out. */
export interface FaceDocument {
  registerFont(name: string, data: Buffer): unknown
  font(name: string): unknown
  _font: { font: { hasGlyphForCodePoint(codePoint: number): boolean } }
  fontSize(size: number): unknown
  widthOfString(text: string): number
}

/** Neighbouring characters of one face and direction. */
export interface Run {
  text: string
  face: string
  /** Odd is from right to left (UAX #9). */
  level: number
  width: number
}

export interface Line {
  /** As they stand from left to right. */
  runs: Run[]
  width: number
  /** Whether its paragraph reads from right to left. */
  rtl: boolean
}

/** Its types say another way to load it than the one that works here. */
const bidi = (require('bidi-js') as () => Bidi)()
/** Widths and lines that are kept to be used again, and the longest text whose lines are. */
const mostKept = 20_000
const longestKept = 200

/** Characters without which a text reads from left to right throughout. */
const turning =
  /[\u0590-\u08ff\u200f\u202b\u202e\u2067\ufb1d-\ufdff\ufe70-\ufeff\u{10800}-\u{10fff}\u{1e800}-\u{1efff}]/u

export class Faces {
  readonly #doc: FaceDocument
  readonly #names: Readonly<Record<Style, string[]>>
  readonly #faceOf = new Map<string, string | null>()
  readonly #widths = new Map<string, number>()
  readonly #lines = new Map<string, Line[]>()

  constructor(doc: FaceDocument) {
    this.#doc = doc
    const register = ([name, file]: [string, string] | readonly [string, string]) => {
      const face = `${name} ${file}`
      doc.registerFont(face, readFileSync(require.resolve(`@fontsource/${name}/files/${name}-${file}-normal.woff`)))
      return face
    }
    const rest = others.map(register)
    const of = (style: Style) => [...files[style].map(register), ...rest]
    this.#names = { text: of('text'), strong: of('strong'), mono: of('mono') }
  }

  /** The face that has a character; null where none has. */
  #face(style: Style, char: string): string | null {
    const key = `${style}${char}`
    const known = this.#faceOf.get(key)
    if (known !== undefined) return known
    const codePoint = char.codePointAt(0)!
    const found =
      this.#names[style].find((name) => {
        this.#doc.font(name)
        return this.#doc._font.font.hasGlyphForCodePoint(codePoint)
      }) ?? null
    this.#faceOf.set(key, found)
    return found
  }

  #width(face: string, size: number, text: string): number {
    const key = `${face} ${size} ${text}`
    const known = this.#widths.get(key)
    if (known !== undefined) return known
    this.#doc.font(face)
    this.#doc.fontSize(size)
    const width = this.#doc.widthOfString(text)
    if (this.#widths.size >= mostKept) this.#widths.clear()
    this.#widths.set(key, width)
    return width
  }

  /** What no face has is written as its number, so that nothing of a value is missing or hidden. */
  #visible(style: Style, text: string): string {
    let shown = ''
    for (const char of text)
      shown +=
        char === '\n' || this.#face(style, char) !== null
          ? char
          : char === '\t'
            ? '    '
            : `[U+${char.codePointAt(0)!.toString(16).toUpperCase().padStart(4, '0')}]`
    return shown
  }

  /** A text in lines that are no wider than some points, broken at blanks, and within what is longer. */
  lines(style: Style, size: number, text: string, width: number): Line[] {
    if (text.length > longestKept) return this.#broken(style, size, text, width)
    // Names of people, records and fields come again and again.
    const key = `${style} ${size} ${width} ${text}`
    const known = this.#lines.get(key)
    if (known) return known
    const lines = this.#broken(style, size, text, width)
    if (this.#lines.size >= mostKept) this.#lines.clear()
    this.#lines.set(key, lines)
    return lines
  }

  #broken(style: Style, size: number, text: string, width: number): Line[] {
    return this.#visible(style, text.replace(/\r\n?/g, '\n'))
      .split('\n')
      .flatMap((paragraph) => this.#paragraph(style, size, paragraph, width))
  }

  #paragraph(style: Style, size: number, text: string, width: number): Line[] {
    const embedding = turning.test(text) ? bidi.getEmbeddingLevels(text) : null
    const levels = embedding?.levels ?? null
    const rtl = ((embedding?.paragraphs[0]?.level ?? 0) & 1) === 1
    const lines: Line[] = []
    const put = (from: number, to: number) => lines.push(this.#line(style, size, text, levels, from, to, rtl))
    let [begin, at, wide] = [0, 0, 0]
    for (const word of text.match(/\S+\s*|\s+/g) ?? []) {
      const wordWidth = this.#across(style, size, word.trimEnd())
      if (wide > 0 && wide + wordWidth > width) {
        put(begin, at)
        ;[begin, wide] = [at, 0]
      }
      if (wordWidth > width) {
        for (const char of word) {
          const charWidth = this.#across(style, size, char)
          if (wide > 0 && wide + charWidth > width && char.trim() !== '') {
            put(begin, at)
            ;[begin, wide] = [at, 0]
          }
          wide += charWidth
          at += char.length
        }
      } else {
        wide += this.#across(style, size, word)
        at += word.length
      }
    }
    if (begin < text.length || lines.length === 0) put(begin, text.length)
    return lines
  }

  #across(style: Style, size: number, text: string): number {
    let width = 0
    for (const { text: part, face } of this.#ofOneFace(style, text)) width += this.#width(face, size, part)
    return width
  }

  #ofOneFace(style: Style, text: string): { text: string; face: string }[] {
    const parts: { text: string; face: string }[] = []
    for (const char of text) {
      const last = parts.at(-1)
      // Blanks and marks stay with what they stand beside, where its face has them.
      const face = this.#face(style, char) ?? this.#names[style][0]!
      if (last && last.face === face) last.text += char
      else parts.push({ text: char, face })
    }
    return parts
  }

  #line(
    style: Style,
    size: number,
    text: string,
    levels: Uint8Array | null,
    from: number,
    to: number,
    rtl: boolean,
  ): Line {
    const end = from + text.slice(from, to).trimEnd().length
    const runs: Run[] = []
    for (let at = from; at < end;) {
      const level = levels?.[at] ?? 0
      let until = at
      while (until < end && (levels?.[until] ?? 0) === level) until++
      for (const part of this.#ofOneFace(style, text.slice(at, until)))
        runs.push({ ...part, level, width: this.#width(part.face, size, part.text) })
      at = until
    }
    return { runs: reordered(runs), width: runs.reduce((sum, run) => sum + run.width, 0), rtl }
  }
}

/** Runs as they stand from left to right (UAX #9, L2); within a run the face itself turns its signs. */
function reordered(runs: Run[]): Run[] {
  const order = [...runs]
  const most = Math.max(0, ...runs.map((run) => run.level))
  for (let level = most; level > 0; level--)
    for (let at = 0; at < order.length; at++) {
      if (order[at]!.level < level) continue
      let until = at
      while (until < order.length && order[until]!.level >= level) until++
      order.splice(at, until - at, ...order.slice(at, until).reverse())
      at = until
    }
  return order
}

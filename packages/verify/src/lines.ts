/** A line, or the word that it is longer than is read. */
export type Line = { number: number; text: string } | { number: number; tooLong: true }

/** No save with its proof is longer; what is cannot be read without filling the memory. */
export const longestLine = 64 * 1024 * 1024

/** The lines of a file, one after another. Of a line that is too long nothing is kept. */
export async function* linesOf(chunks: AsyncIterable<Buffer | string>, longest = longestLine): AsyncGenerator<Line> {
  const decoder = new TextDecoder('utf-8')
  let [number, length, tooLong]: [number, number, boolean] = [1, 0, false]
  let parts: string[] = []
  const line = (): Line => (tooLong ? { number, tooLong: true } : { number, text: parts.join('') })
  for await (const chunk of chunks) {
    const text = typeof chunk === 'string' ? chunk : decoder.decode(chunk, { stream: true })
    let from = 0
    for (;;) {
      const end = text.indexOf('\n', from)
      const part = text.slice(from, end < 0 ? undefined : end)
      length += part.length
      if (length > longest) [tooLong, parts] = [true, []]
      else if (!tooLong) parts.push(part)
      if (end < 0) break
      yield line()
      ;[number, length, tooLong, parts] = [number + 1, 0, false, []]
      from = end + 1
    }
  }
  // What follows the last line feed is a line that was cut off, if it is anything.
  if (length > 0) yield line()
}

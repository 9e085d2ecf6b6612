/** A word of a name. */
export const wordForm = /[\p{L}\p{N}][\p{L}\p{N}'’._-]*/gu

/**
 * The value that a text begins with: in quotation marks, nothing, what a record is called, or words up to those that begin
 * something else. No values where none is called so, several where more than one is; null where there is none.
 */
export function valueAt(
  text: string,
  called: readonly { value: string; label: string }[] | null,
): { length: number; values: (string | null)[]; meant: string[] } | null {
  const quoted = /^["“]([^"”]*)["”]/.exec(text)
  const words =
    quoted ??
    /^([^\s,;"“”][^,;"“”]*?)(?=\s+(?:by|on|in|from|to|since|between|before|after|until|during|through|without|with|at|today|yesterday|this|last|whose|and|or|but|not|that)\b|\s*[,;"“”]|[.?!]?\s*$)/i.exec(
      text,
    )
  if (!words) return null
  const [{ length }, said] = [words[0], words[1]!]
  if (!quoted && /^nothing$/i.test(said)) return { length, values: [null], meant: ['nothing'] }
  if (!called) return { length, values: [said], meant: [`“${said}”`] }
  const plain = (label: string) => label.toLowerCase()
  const whole = called.filter(({ label, value }) => plain(label) === plain(said) || value === said)
  const wordsOf = (label: string): readonly string[] => plain(label).match(wordForm) ?? []
  const hits =
    whole.length > 0
      ? whole
      : called.filter(({ label }) => wordsOf(said).every((word) => wordsOf(label).includes(word)))
  return { length, values: hits.map(({ value }) => value), meant: hits.map(({ label }) => label) }
}

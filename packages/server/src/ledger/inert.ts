/**
 * A cell that no spreadsheet takes for a formula: text beginning with one of the signs that start one, or with
 * an apostrophe, gets an apostrophe in front. Taking one leading apostrophe off gives the value back exactly.
 * Plain numbers stay as they are, so that -5 can be summed.
 */
export function inert(text: string): string {
  if (/^[-+]\d+(\.\d+)?$/.test(text)) return text
  // Blanks before it are passed over by some, full-width signs are read as the plain ones.
  return /^[\s\u00a0\u180e\u2000-\u200d\u202f\u2060\u3000\ufeff]*['=+\-@＇＝＋－−＠\t\r\n]/u.test(text)
    ? `'${text}`
    : text
}

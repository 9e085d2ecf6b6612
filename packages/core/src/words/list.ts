/** Joins words as English does: "a", "a and b", "a, b and c". */
export function listed(words: readonly string[], joiner: 'and' | 'or' = 'and'): string {
  if (words.length <= 1) return words[0] ?? ''
  return `${words.slice(0, -1).join(', ')} ${joiner} ${words[words.length - 1]}`
}

/** "1 save", "2 saves", "1,284 saves": a number is never without its unit. */
export function counted(n: number | bigint, one: string, many = `${one}s`): string {
  return `${grouped(n)} ${Number(n) === 1 ? one : many}`
}

/** Thousands grouped with commas, as British English writes them. */
export function grouped(n: number | bigint): string {
  return String(n).replace(/\B(?=(\d{3})+(?!\d))/g, ',')
}

/** A column or table name as a person would say it: "weekly_rent" and "weeklyRent" become "weekly rent". */
export function spoken(identifier: string): string {
  return identifier
    .replace(/([a-z\d])([A-Z])/g, '$1 $2')
    .replace(/[_\s]+/g, ' ')
    .trim()
    .toLowerCase()
}

export function capitalised(text: string): string {
  return text.charAt(0).toUpperCase() + text.slice(1)
}

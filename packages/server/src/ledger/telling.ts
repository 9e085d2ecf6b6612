/** Longer values are looked for in Changes. */
export const longestTelling = 60

/**
 * Whether a value, as an expression of SQL, is one that a record is looked for by: words, addresses, numbers with blanks;
 * plain numbers, days, yes and no are everybody's. Indexes are made of it (migration 022): another rule needs others.
 */
export function telling(value: string): string {
  return `length(${value}) between 3 and ${longestTelling} and ${value} !~ '^[-+]{0,1}[0-9]*[.]{0,1}[0-9]*$' and ${value} !~ '^[0-9]{4}-[0-9]{2}-[0-9]{2}' and ${value} not in ('true', 'false')`
}

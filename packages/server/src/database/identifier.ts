/** An identifier as PostgreSQL reads it back unchanged, whatever it holds. */
export function quoteIdentifier(name: string): string {
  return `"${name.replace(/"/g, '""')}"`
}

export function quoteLiteral(text: string): string {
  const quoted = `'${text.replace(/'/g, "''")}'`
  return text.includes('\\') ? ` E${quoted.replace(/\\/g, '\\\\')}` : quoted
}

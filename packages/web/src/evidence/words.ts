import type { PackShape } from '@spoor/contract'

/** What a pack can be read as, in words. */
export const shapeWords: Readonly<Record<PackShape, string>> = {
  pdf: 'PDF to read',
  xlsx: 'Workbook (XLSX)',
  csv: 'CSV',
}

/** "640 KB". */
export function sizeWords(bytes: number): string {
  if (bytes < 1000) return `${bytes} bytes`
  const [value, unit] =
    bytes < 1_000_000 ? [bytes / 1000, 'KB'] : bytes < 1e9 ? [bytes / 1e6, 'MB'] : [bytes / 1e9, 'GB']
  return `${value < 10 ? value.toFixed(1) : Math.round(value)} ${unit}`
}

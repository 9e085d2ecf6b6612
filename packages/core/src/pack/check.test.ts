import { createHash } from 'node:crypto'
import { deflateRawSync } from 'node:zlib'
import fc from 'fast-check'
import { zipSync } from 'fflate'
import { describe, expect, it } from 'vitest'
import { archiveEnd, entryDescriptor, entryHead, type PackEntry } from './archive.ts'
import { checkPack, type PackTools } from './check.ts'
import { reportLines } from './report.ts'

const tools: PackTools = {
  sha256: (data) => new Uint8Array(createHash('sha256').update(data).digest()),
  sha256Hex: (text) => createHash('sha256').update(text).digest('hex'),
  signed: () => false,
  hasher() {
    const hash = createHash('sha256')
    return { update: (bytes) => void hash.update(bytes), digest: () => new Uint8Array(hash.digest()) }
  },
  utf8: (bytes) => Buffer.from(bytes).toString(),
}
const check = (bytes: Uint8Array) =>
  checkPack({ size: bytes.length, read: async (from, to) => bytes.subarray(from, to) }, tools, { nowMs: 0 })

interface Part {
  name: string
  content: Buffer
  /** Says something else of itself than is so. */
  lies?: Partial<PackEntry>
}

/** An archive in a pack's form, of whatever parts. */
function archive(...parts: Part[]): Buffer {
  const [pieces, entries]: [Buffer[], PackEntry[]] = [[], []]
  let offset = 0
  for (const { name, content, lies } of parts) {
    const packed = deflateRawSync(content)
    const entry = { name, crc: 0, packed: packed.length, size: content.length, offset, ...lies }
    const all = [entryHead(name), packed, entryDescriptor(entry)].map((bytes) => Buffer.from(bytes))
    pieces.push(...all)
    entries.push(entry)
    offset += all.reduce((sum, piece) => sum + piece.length, 0)
  }
  return Buffer.concat([...pieces, archiveEnd(entries, offset)])
}
const saves = (...lines: (object | string)[]) => ({
  name: 'pack-1/data/saves.ndjson',
  content: Buffer.from(lines.map((line) => `${typeof line === 'string' ? line : JSON.stringify(line)}\n`).join('')),
})
const said = async (bytes: Uint8Array) => {
  const report = await check(bytes)
  expect(report.verdict).toBe('does not hold')
  return reportLines(report).join('\n')
}

describe('what is no pack', () => {
  it('is told in words, whatever it is', async () => {
    expect(await said(Buffer.alloc(0))).toContain('It is no pack, or was cut off.')
    expect(await said(Buffer.from('PK\u0003\u0004 and more than twenty-two bytes'))).toContain('It is no pack')
    expect(await said(Buffer.from(zipSync({ 'a.txt': Buffer.from('hello') })))).toContain(
      'whose name no pack has: "a.txt"',
    )
    expect(await said(archive())).toContain('There are no saves in it.')
  })

  it('names that lead out, or are there twice, are not taken', async () => {
    for (const name of [
      '../evil',
      '/etc/passwd',
      'pack-1/../x',
      'pack-1/data/a/b',
      'pack-1\\x',
      'pack-0/x',
      'pack-1/data/.x',
      'pack-1/DATA/x',
    ])
      expect(await said(archive({ name, content: Buffer.from('x') }))).toContain('whose name no pack has')
    const part = { name: 'pack-1/data/x', content: Buffer.from('x') }
    expect(await said(archive(part, part))).toContain('It has pack-1/data/x twice.')
  })

  it('what unpacks to more than it says, or says more than can be, is not unpacked', async () => {
    const zeros = { name: 'pack-1/data/zeros', content: Buffer.alloc(50_000_000) }
    expect(await said(archive({ ...zeros, lies: { size: 10 } }))).toContain('It unpacks to more than it says.')
    expect(await said(archive({ ...zeros, lies: { size: 0xffff_ffff } }))).toContain('unpacks to an impossible size')
    expect(await said(archive({ ...zeros, lies: { size: 50_000_001 } }))).toContain('It unpacks to less than it says.')
  })

  it('lines that are no saves, too long, or beyond the end are named by their place', async () => {
    const heading = { spoor: 'pack of saves, 1', seal: null, key: null }
    const save = { index: null, leaf: '', fill: '', canonical: '{"changes":[]}', openings: [], closed: {} }
    const whole = await said(
      archive(saves(heading, '[]', { ...save, index: -1 }, { ...save, fill: 'xx' }, { saves: 3, fill: '' }, save)),
    )
    for (const line of [2, 3, 4]) expect(whole).toContain(`line ${line}, rule 18: The line is no save of a pack.`)
    expect(whole).toContain('line 6, rule 18: There is something after the last line.')
    expect(await said(archive(saves(heading, save)))).toContain('The last line is missing: it was cut off.')
    expect(await said(archive(saves({ spoor: 'another program' })))).toContain('These are no saves of a pack')
    const closed = await said(
      archive(saves(heading, { ...save, canonical: '{"changes":[{"fieldId":1}]}' }, { saves: 1, fill: '' })),
    )
    expect(closed).toContain('It does not say of each of its changes whether it is open')
    expect(await said(archive(saves(heading, 'x'.repeat(70_000_000))))).toContain('The line is longer than any save')
  }, 30_000)

  it('never breaks the check', async () => {
    const good = archive(saves({ spoor: 'pack of saves, 1', seal: null, key: null }, { saves: 0, fill: '' }))
    await fc.assert(
      fc.asyncProperty(fc.uint8Array({ maxLength: 400 }), fc.nat(), fc.nat(), async (bytes, at, cut) => {
        await said(bytes)
        const other = Buffer.from(good)
        other.set(bytes.subarray(0, other.length - (at % other.length)), at % other.length)
        await said(other.subarray(0, 1 + (cut % other.length)))
      }),
      { numRuns: 200 },
    )
  })
})

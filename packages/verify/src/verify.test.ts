import { generateKeyPairSync, sign } from 'node:crypto'
import { Readable } from 'node:stream'
import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import {
  answered,
  canonicalSave,
  chainBegin,
  checkpointText,
  commitmentsOf,
  inclusionProof,
  innerHash,
  keyLine,
  leafText,
  rootOf,
  signedNote,
  toHex,
  type NodeAddress,
} from '@spoor/core'
import { linesOf } from './lines.ts'
import { tools, verify } from './verify.ts'

const { privateKey, publicKey } = generateKeyPairSync('ed25519')
const nowMs = Date.parse('2026-03-20T17:00:00Z')
const key = {
  name: 'spoor/test',
  publicKey: new Uint8Array(publicKey.export({ type: 'spki', format: 'der' }).subarray(-32)),
}
const line = keyLine(tools.sha256, key)

const salt = '00112233445566778899aabbccddeeff0f1e2d3c4b5a69788796a5b4c3d2e1f0'
const canonicals = Array.from({ length: 11 }, (_, n) =>
  canonicalSave({
    id: String(n + 1),
    at: '2026-03-20T16:52:07Z',
    collectedAt: '2026-03-20T16:52:08Z',
    sourceId: 1,
    typeId: 3,
    key: `["${n}"]`,
    keyBefore: null,
    label: `record ${n}`,
    action: 'change',
    actorId: 4,
    actorKind: 'person',
    actorName: 'Ann',
    claimed: false,
    onBehalfOf: null,
    channel: 'screen',
    run: null,
    runId: null,
    reason: null,
    correctionId: null,
    login: 'desk',
    application: null,
    address: null,
    transaction: '7',
    planVersion: 1,
    seq: String(n),
    parentTypeId: null,
    parentKey: null,
    changes: [{ fieldId: 5, ...commitmentsOf(tools.sha256Hex, salt, 'before', `after ${n}`) }],
  }),
)
const leaves = canonicals.map((canonical) => tools.sha256(leafText(canonical)))
const nodeAt = ({ level, index }: NodeAddress): Uint8Array =>
  level === 0
    ? leaves[index]!
    : innerHash(
        tools.sha256,
        nodeAt({ level: level - 1, index: index * 2 }),
        nodeAt({ level: level - 1, index: index * 2 + 1 }),
      )
function sealed(at = '2026-03-20T16:53:00.000Z', size = leaves.length): string {
  const root = answered(rootOf(tools.sha256, size), nodeAt)
  const text = checkpointText({ origin: key.name, size, root, at, events: 0, eventsEnd: chainBegin })
  return signedNote(tools.sha256, text, key, sign(null, Buffer.from(text), privateKey))
}
const file = (seal: string | null = sealed()) => [
  JSON.stringify({ spoor: 'proved saves, 1', seal, key: line }),
  ...canonicals.map((canonical, index) =>
    JSON.stringify({
      index,
      canonical,
      proof: answered(inclusionProof(tools.sha256, index, leaves.length), nodeAt).map(toHex),
      openings: [{ fieldId: 5, salt, before: 'before', after: `after ${index}` }],
    }),
  ),
  JSON.stringify({ saves: leaves.length }),
  '',
]
const check = (lines: readonly string[] | string, more: { key?: string; seal?: string } = { key: line }) =>
  verify(Readable.from([Buffer.from(typeof lines === 'string' ? lines : lines.join('\n'))]), { nowMs, ...more })

describe('a file of proved saves', () => {
  it('holds with the key that was handed out', async () => {
    const report = await check(file())
    expect(report).toMatchObject({ saves: 11, failed: 0, skipped: 0, findings: [] })
    expect(report.passed).toBe(2 + 11 * 2 + 1)
  })

  it('says when the key came with the file, and takes a kept seal instead', async () => {
    expect((await check(file(), {})).findings).toEqual([expect.objectContaining({ rule: '10', outcome: 'skipped' })])
    expect(await check(file(null), { key: line, seal: sealed() })).toMatchObject({ failed: 0 })
    expect(await check(file(null))).toMatchObject({ failed: 0, checkpoint: null })
  })

  it('leaves values closed that were not handed out', async () => {
    const closed = file().map((text) => text.replace(/"openings":\[.*\]/, '"openings":[]'))
    expect(await check(closed)).toMatchObject({ failed: 0, skipped: 11 })
  })

  it('does not hold when a byte of a proved line is other', async () => {
    await fc.assert(
      fc.asyncProperty(fc.nat(), fc.integer({ min: 1, max: 127 }), async (at, by) => {
        const bytes = Buffer.from(file().join('\n'))
        const begins = file()[0]!.length + 1
        const place = begins + (at % (bytes.length - 1 - begins))
        bytes[place]! ^= by
        const report = await check(bytes.toString('latin1'))
        expect(report.failed).toBeGreaterThan(0)
      }),
      { numRuns: 300 },
    )
  })

  it.each<[string, string[] | string, RegExp]>([
    ['nothing', '', /empty/],
    ['another program’s file', 'PK\u0003\u0004 something else', /no file of proved saves/],
    ['a table', 'time,who\n2026,Ann\n', /no file of proved saves/],
    ['a file of another version', [JSON.stringify({ spoor: 'proved saves, 2' })], /another version/],
    ['a file that was cut off', file().slice(0, 6), /cut off/],
    ['a line that was cut off', file().join('\n').slice(0, -40), /no save with its proof|cut off/],
    ['a save that was left out', file().filter((_, at) => at !== 4), /says that it has 11 saves, and it has 10/],
    ['something put behind', [...file().slice(0, -1), '{}', ''], /after the last line/],
    ['a nest of brackets', [file()[0]!, '['.repeat(1_000_000), ...file().slice(1)], /no save with its proof/],
    [
      'a nest inside a save',
      [
        file()[0]!,
        JSON.stringify({ index: 0, canonical: '['.repeat(1_000_000), proof: [], openings: [] }),
        ...file().slice(1),
      ],
      /save can be read/,
    ],
    [
      'numbers that are none',
      [file()[0]!, JSON.stringify({ index: -1, canonical: '{}', proof: [], openings: [] }), ...file().slice(1)],
      /no save with its proof/,
    ],
    [
      'a proof that never ends',
      [
        file()[0]!,
        JSON.stringify({ index: 0, canonical: canonicals[0], proof: Array(10_000).fill('00'), openings: [] }),
        ...file().slice(1),
      ],
      /no save with its proof/,
    ],
    ['a seal from the future', file(sealed('2027-03-20T16:53:00.000Z')), /yet to come/],
    ['a seal that is none', file('a seal'), /seal can be read/],
  ])('reports %s, and never breaks', async (_, lines, words) => {
    const report = await check(lines)
    expect(report.failed).toBeGreaterThan(0)
    expect(report.findings.map((finding) => finding.words).join('\n')).toMatch(words)
  })

  it('does not hold with another key, or one that is none', async () => {
    const other = keyLine(tools.sha256, { ...key, publicKey: tools.sha256('other') })
    for (const wrong of [other, '', 'x', `${line}x`])
      expect((await check(file(), { key: wrong })).failed).toBeGreaterThan(0)
  })
})

describe('lines', () => {
  const all = async (chunks: string[], longest: number) => {
    const lines = []
    for await (const one of linesOf(Readable.from(chunks), longest))
      lines.push('tooLong' in one ? one.number : one.text)
    return lines
  }
  it('come whole however the file is cut into pieces', async () => {
    await fc.assert(
      fc.asyncProperty(fc.array(fc.string({ unit: fc.constantFrom('a', 'é', '\n') })), async (chunks) => {
        const text = chunks.join('')
        const expected = text.split('\n')
        if (expected.at(-1) === '') expected.pop()
        expect(
          await all(
            chunks.filter((chunk) => chunk !== ''),
            1000,
          ),
        ).toEqual(expected)
      }),
    )
  })
  it('that are too long are passed over and counted', async () => {
    expect(await all(['ab\nabc', 'defgh', 'ij\nx\n'], 5)).toEqual(['ab', 2, 'x'])
  })
})

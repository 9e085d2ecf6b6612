import { createHash, createPrivateKey, createPublicKey, sign, verify } from 'node:crypto'
import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { fromBase64, fromHex, sameBytes, toBase64, toHex, type Sha256 } from './bytes.ts'
import { canonicalJson, type Json } from './canonical.ts'
import {
  chainBegin,
  chained,
  checkpointText,
  keyLine,
  readCheckpoint,
  readKeyLine,
  readNote,
  signatureBy,
  signedNote,
  type Checkpoint,
} from './checkpoint.ts'
import {
  canonicalSave,
  changeDigest,
  sidesAltered,
  commitment,
  commitmentsOf,
  leafText,
  sideSalt,
  type ProvedSave,
} from './leaf.ts'
import {
  answered,
  consistencyProof,
  inclusionProof,
  innerHash,
  provesConsistency,
  provesInclusion,
  rootOf,
  type NodeAddress,
} from './merkle.ts'

const sha256Hex = (text: string) => createHash('sha256').update(text).digest('hex')
const sha256: Sha256 = (data) => new Uint8Array(createHash('sha256').update(data).digest())

describe('canonical JSON (RFC 8785)', () => {
  it('is as in 3.2.2', () => {
    const source = String.raw`{"numbers":[333333333.33333329,1E30,4.50,2e-3,0.000000000000000000000000001],"string":"\u20ac$\u000F\u000aA'\u0042\u0022\u005c\\\"\/","literals":[null,true,false]}`
    const canonical = String.raw`{"literals":[null,true,false],"numbers":[333333333.3333333,1e+30,4.5,0.002,1e-27],"string":"€$\u000f\nA'B\"\\\\\"/"}`
    expect(canonicalJson(JSON.parse(source) as Json)).toBe(canonical)
  })

  it('sorts names as in 3.2.3', () => {
    const source = String.raw`{"\u20ac":"Euro Sign","\r":"Carriage Return","\ufb33":"Hebrew Letter Dalet With Dagesh","1":"One","\ud83d\ude00":"Emoji: Grinning Face","\u0080":"Control","\u00f6":"Latin Small Letter O With Diaeresis"}`
    const names = [...canonicalJson(JSON.parse(source) as Json).matchAll(/"([^"]*)":/g)].map((match) => match[1])
    expect(names).toEqual(['\\r', '1', '\u0080', 'ö', '€', '😀', '\ufb33'])
  })

  it.each([
    ['0000000000000000', '0'],
    ['8000000000000000', '0'],
    ['0000000000000001', '5e-324'],
    ['7fefffffffffffff', '1.7976931348623157e+308'],
    ['4340000000000000', '9007199254740992'],
    ['4430000000000000', '295147905179352830000'],
    ['44b52d02c7e14af6', '1e+23'],
    ['3eb0c6f7a0b5ed8d', '0.000001'],
    ['41b3de4355555557', '333333333.33333343'],
  ])('writes the number %s as in appendix B', (bits, text) => {
    expect(canonicalJson(new DataView(Uint8Array.from(fromHex(bits)!).buffer).getFloat64(0))).toBe(text)
  })

  it('refuses what has no canonical form', () => {
    for (const one of [Number.NaN, Infinity, '\ud800', 'a\udc00b', '\udc00\ud800', { '\ud800': 1 }] as Json[])
      expect(() => canonicalJson(one)).toThrow(RangeError)
  })

  it('reads back as what it was written from', () => {
    fc.assert(
      fc.property(fc.jsonValue({ noUnicodeString: false }), (value) => {
        const canonical = canonicalJson(JSON.parse(JSON.stringify(value)) as Json)
        expect(canonicalJson(JSON.parse(canonical) as Json)).toBe(canonical)
      }),
    )
  })
})

describe('text forms of bytes', () => {
  it.each([
    ['', ''],
    ['f', 'Zg=='],
    ['fo', 'Zm8='],
    ['foo', 'Zm9v'],
    ['foob', 'Zm9vYg=='],
    ['fooba', 'Zm9vYmE='],
    ['foobar', 'Zm9vYmFy'],
  ])('%s is %s (RFC 4648, 10)', (text, base64) => {
    expect(toBase64(Buffer.from(text))).toBe(base64)
    expect(Buffer.from(fromBase64(base64)!).toString()).toBe(text)
  })

  it.each(['Zg=', 'Zh==', 'Z', 'Zg==Zg==', 'Zm9v\n', 'Zm 9'])('%j is no base64', (text) =>
    expect(fromBase64(text)).toBeNull(),
  )
})

/** The eight leaves and the roots with which implementations of RFC 6962 are commonly checked. */
const leaves = ['', '00', '10', '2021', '3031', '40414243', '5051525354555657', '606162636465666768696a6b6c6d6e6f'].map(
  (hex) => sha256(Buffer.concat([Buffer.from([0]), fromHex(hex)!])),
)
const roots = [
  '6e340b9cffb37a989ca544e6bb780a2c78901d3fb33738768511a30617afa01d',
  'fac54203e7cc696cf0dfcb42c92a1d9dbaf70ad9e621f4bd8d98662f00e3c125',
  'aeb6bcfe274b70a14fb067a5e5578264db0fa9b51af5e0ba159158f329e06e77',
  'd37ee418976dd95753c1c73862b9398fa2a2cf9b4ff0fdfe8b30cd95209614b7',
  '4e3bbb1f7b478dcfe71fb631631519a3bca12c9aefca1612bfce4c13a86264d4',
  '76e67dadbcdf1e10e1b74ddc608abd2f98dfb16fbce75277b5232a127f2087ef',
  'ddb89be403809e325750d3d263cd78929c2942b7942a34b77e122c9594a74c8c',
  '5dc9da79a70659a9ad559cb701ded9a2ab9d823aad2f4960cfe370eff4604328',
]

function nodeAt({ level, index }: NodeAddress, of: readonly Uint8Array[] = leaves): Uint8Array {
  if (level === 0) return of[index]!
  return innerHash(
    sha256,
    nodeAt({ level: level - 1, index: index * 2 }, of),
    nodeAt({ level: level - 1, index: index * 2 + 1 }, of),
  )
}
const root = (size: number, of: readonly Uint8Array[] = leaves) =>
  answered(rootOf(sha256, size), (address) => nodeAt(address, of))

describe('the tree (RFC 6962)', () => {
  it('of nothing is the hash of nothing', () => {
    expect(toHex(root(0))).toBe('e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855')
  })
  it.each(roots.map((hex, at) => [at + 1, hex] as const))('of %i leaves has its known root', (size, hex) => {
    expect(toHex(root(size))).toBe(hex)
  })

  it('proves every leaf in every tree, and nothing else (2.1.1)', () => {
    for (let size = 1; size <= 8; size++)
      for (let index = 0; index < size; index++) {
        const proof = answered(inclusionProof(sha256, index, size), nodeAt)
        const claim = { leaf: leaves[index]!, index, size, root: root(size), proof }
        expect(provesInclusion(sha256, claim)).toBe(true)
        expect(provesInclusion(sha256, { ...claim, leaf: leaves[(index + 1) % 8]! })).toBe(false)
        expect(provesInclusion(sha256, { ...claim, proof: [...proof, leaves[0]!] })).toBe(false)
        if (proof.length > 0) expect(provesInclusion(sha256, { ...claim, proof: proof.slice(1) })).toBe(false)
        // The last leaf of a tree may sit at the same place in a larger one; with another root it is not proved there.
        for (const other of [index - 1, index + 1, -1, size])
          expect(provesInclusion(sha256, { ...claim, index: other })).toBe(false)
      }
  })

  it('proves of any two sizes that one grew from the other, and of nothing else (2.1.2)', () => {
    for (let second = 0; second <= 8; second++)
      for (let first = 0; first <= second; first++) {
        const proof = answered(consistencyProof(sha256, first, second), nodeAt)
        const claim = { first, firstRoot: root(first), second, secondRoot: root(second), proof }
        expect([first, second, provesConsistency(sha256, claim)]).toEqual([first, second, true])
        const forged = { ...claim, secondRoot: sha256('another') }
        if (first > 0) expect(provesConsistency(sha256, forged)).toBe(false)
        expect(provesConsistency(sha256, { ...claim, firstRoot: sha256('another') })).toBe(false)
        if (proof.length > 0) expect(provesConsistency(sha256, { ...claim, proof: proof.slice(0, -1) })).toBe(false)
      }
  })

  it('holds for trees of any size, and no alteration of a leaf, a proof or a root passes', () => {
    fc.assert(
      fc.property(fc.integer({ min: 1, max: 300 }), fc.nat(), fc.nat(), fc.nat(), (size, a, b, c) => {
        const many = Array.from({ length: size }, (_, n) => sha256(`leaf ${n}`))
        const at = (address: NodeAddress) => nodeAt(address, many)
        const [index, first] = [a % size, b % (size + 1)]
        const proof = answered(inclusionProof(sha256, index, size), at)
        const claim = { leaf: many[index]!, index, size, root: root(size, many), proof }
        expect(provesInclusion(sha256, claim)).toBe(true)
        if (proof.length > 0) {
          const bad = proof.map((one, n) => (n === c % proof.length ? flip(one, c) : one))
          expect(provesInclusion(sha256, { ...claim, proof: bad })).toBe(false)
        }
        expect(provesInclusion(sha256, { ...claim, leaf: flip(claim.leaf, c) })).toBe(false)
        const grew = answered(consistencyProof(sha256, first, size), at)
        expect(
          provesConsistency(sha256, {
            first,
            firstRoot: root(first, many),
            second: size,
            secondRoot: claim.root,
            proof: grew,
          }),
        ).toBe(true)
      }),
    )
  })
})

function flip(bytes: Uint8Array, at: number): Uint8Array {
  const copy = Uint8Array.from(bytes)
  copy[at % copy.length]! ^= 1 << (at % 8)
  return copy
}

const save: ProvedSave = {
  id: '17',
  at: '2026-03-20T16:52:07.123456Z',
  collectedAt: '2026-03-20T16:52:08.1Z',
  sourceId: 1,
  typeId: 3,
  key: '["9"]',
  keyBefore: null,
  label: 'Brackwell',
  action: 'change',
  actorId: 4,
  actorKind: 'person',
  actorName: 'Oona Marchetti',
  claimed: false,
  onBehalfOf: null,
  channel: 'screen',
  run: null,
  runId: '8',
  reason: 'per phone call',
  correctionId: null,
  login: 'desk',
  application: 'the desk',
  address: '10.2.0.11',
  transaction: '77',
  planVersion: 3,
  seq: '99',
  parentTypeId: null,
  parentKey: null,
  changes: [{ fieldId: 5, ...commitmentsOf(sha256Hex, 'ab'.repeat(32), 'A', null) }],
}

describe('a save as a leaf', () => {
  it('has one canonical form, from which its leaf follows (rules 5 to 7)', () => {
    const canonical = canonicalSave(save)
    expect(JSON.parse(canonical)).toEqual(save)
    expect(canonical).toBe(canonicalJson(save as unknown as Json))
    expect(canonical).toMatch(/^\{"action":"change","actorId":4,/)
    expect(sha256Hex(leafText(canonical))).toBe(createHash('sha256').update('\0').update(canonical).digest('hex'))
  })

  it('changes with everything that is kept of it', () => {
    const leaf = sha256Hex(leafText(canonicalSave(save)))
    for (const name of Object.keys(save) as (keyof ProvedSave)[]) {
      const other =
        typeof save[name] === 'number'
          ? 12345
          : typeof save[name] === 'boolean'
            ? true
            : name === 'changes'
              ? []
              : 'other'
      expect([name, sha256Hex(leafText(canonicalSave({ ...save, [name]: other })))]).not.toEqual([name, leaf])
    }
  })

  it('commits to values without saying them, each under a salt of its own (rules 2 to 4)', () => {
    const salt = '00112233445566778899aabbccddeeff0f1e2d3c4b5a69788796a5b4c3d2e1f0'
    expect(commitment(sha256Hex, salt, 'x')).toBe(createHash('sha256').update(`\u0002${salt}tx`).digest('hex'))
    const distinct = [null, '', 'n', 't', 'null', '\u0000'].map((value) => commitment(sha256Hex, salt, value))
    expect(new Set(distinct).size).toBe(6)
    const { before, after } = commitmentsOf(sha256Hex, salt, 'same', 'same')
    expect(before).not.toBe(after)
    expect(before).toBe(commitment(sha256Hex, sideSalt(salt, 'before'), 'same'))
    const digest = changeDigest({ before, after })
    expect(digest).toBe(before.slice(0, 16) + after.slice(0, 16))
    expect(sidesAltered(digest, digest)).toEqual([])
    expect(sidesAltered(changeDigest({ before, after: before }), digest)).toEqual(['after'])
    expect(sidesAltered(changeDigest({ before: after, after }), digest)).toEqual(['before'])
    expect(sidesAltered(null, digest)).toEqual(['before', 'after'])
  })

  it('holds whatever a value may be', () => {
    fc.assert(
      fc.property(fc.string({ unit: 'binary' }), fc.string({ unit: 'binary' }), (a, b) => {
        const same = commitment(sha256Hex, 'aa', a) === commitment(sha256Hex, 'aa', b)
        expect(same).toBe(Buffer.from(a).equals(Buffer.from(b)))
        const odd = { ...save, label: Buffer.from(a).toString(), reason: Buffer.from(b).toString() }
        expect(canonicalSave({ ...save, label: a, reason: b })).toBe(canonicalJson(odd as unknown as Json))
      }),
    )
  })
})

/** RFC 8032, 7.1, test 1. */
const seed = '9d61b19deffd5a60ba844af492ec2cc44449c5697b326919703bac031cae7f60'
const publicKey = 'd75a980182b10ab7d54bfed3c964073a0ee172f3daa62325af021a68f707511a'
const secret = createPrivateKey({
  key: Buffer.concat([Buffer.from('302e020100300506032b657004220420', 'hex'), fromHex(seed)!]),
  format: 'der',
  type: 'pkcs8',
})

describe('a seal as a signed note', () => {
  const key = { name: 'spoor.example/ledger', publicKey: fromHex(publicKey)! }
  const checkpoint: Checkpoint = {
    origin: 'spoor.example/ledger',
    size: 26_957,
    root: sha256('root'),
    at: '2026-03-20T16:53:00.000Z',
    events: 12,
    eventsEnd: sha256('events'),
  }
  const text = checkpointText(checkpoint)
  const note = signedNote(sha256, text, key, sign(null, Buffer.from(text), secret))

  it('signs as in RFC 8032', () => {
    expect(toHex(sign(null, Buffer.alloc(0), secret))).toBe(
      'e5564300c360ac729086e2cc806e828a84877f1eb8e5d974d873e065224901555fb8821590a33bacc61e39701cf9b46bd25bf5f0595bbe24655141438e7a100b',
    )
    expect(toHex(createPublicKey(secret).export({ format: 'der', type: 'spki' }).subarray(-32))).toBe(publicKey)
  })

  it('is read back to the letter, and its signature by its key', () => {
    expect(readCheckpoint(text)).toEqual(checkpoint)
    const read = readNote(note)!
    expect(read.text).toBe(text)
    const signature = signatureBy(sha256, read, key)!
    expect(verify(null, Buffer.from(read.text), createPublicKey(secret), signature)).toBe(true)
    expect(signatureBy(sha256, read, { ...key, publicKey: sha256('other') })).toBeNull()
    expect(readKeyLine(sha256, keyLine(sha256, key))).toEqual(key)
  })

  it('is nothing at all when a byte of it is other', () => {
    fc.assert(
      fc.property(fc.nat(), fc.integer({ min: 1, max: 255 }), (at, by) => {
        const bytes = Buffer.from(note)
        bytes[at % bytes.length]! ^= by
        const read = readNote(bytes.toString())
        const signature = read && signatureBy(sha256, read, key)
        expect(Boolean(signature && verify(null, Buffer.from(read.text), createPublicKey(secret), signature))).toBe(
          false,
        )
      }),
    )
  })

  it.each([
    '',
    '\n',
    'x',
    '\n\n',
    `${text}`,
    `${text}\nno signature\n`,
    '\u2014 a b\n',
    `a\n\n\u2014 name !!!\n`,
    'x'.repeat(2_000_000),
  ])('reads nothing from what is no note', (bad) => {
    expect(readNote(bad)).toBeNull()
  })
  it.each([
    '',
    'a\n1\n',
    text.replace('26957', '026957'),
    text.replace('time ', 'time 9'),
    text + 'more\n',
    text.replace('\n2', '\n-2'),
  ])('reads no checkpoint from %j', (bad) => {
    expect(readCheckpoint(bad)).toBeNull()
  })
  it('chains events, so that none can be dropped, altered or put elsewhere (rule 9)', () => {
    const end = (events: string[]) =>
      toHex(events.reduce<Uint8Array>((before, one) => chained(sha256, before, one), chainBegin))
    const all = ['{"id":1}', '{"id":2}', '{"id":3}']
    const ends = [all, all.slice(1), all.slice(0, 2), [...all].reverse(), ['{"id":9}', ...all.slice(1)], []].map(end)
    expect(new Set(ends).size).toBe(ends.length)
    expect(sameBytes(fromHex(ends.at(-1)!)!, chainBegin)).toBe(true)
  })
})

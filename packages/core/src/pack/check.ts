import { Inflate } from 'fflate'
import { fromBase64, joinBytes, sameBytes, toHex } from '../proof/bytes.ts'
import { keyFingerprint, readKeyLine, readNote, signatureBy, type Checkpoint } from '../proof/checkpoint.ts'
import { FilledRoot } from '../proof/filling.ts'
import { field, leafIndex, openingsOf, parsed, text } from '../proof/handed.ts'
import { leafText } from '../proof/leaf.ts'
import { proveSeal, proveValues, step, type Opening, type ProofStep, type ProofTools } from '../proof/prove.ts'
import { counted } from '../words/list.ts'
import {
  contentAt,
  descriptorBytes,
  entryDescriptor,
  entryHead,
  isPacked,
  parting,
  readDirectory,
  type PackEntry,
  type PartedFile,
} from './archive.ts'
import { readCover, type PackCover } from './cover.ts'
import { bagDeclaration, notAskedFor, packFiles, readManifest, readPackStatement, savesHeading } from './form.ts'
import { LineCutter, type PackLine } from './lines.ts'

/** Checks a pack from its bytes alone, read in parts: by the rules of `docs/proof.md`, with no server and no network. */

export interface Hasher {
  update(bytes: Uint8Array): void
  digest(): Uint8Array
}

/** What a time-stamp says. */
export interface TimeStamp {
  /** When the authority says that it saw the content, ISO 8601 in UTC. */
  at: string
  /** Who it is by its certificate. */
  by: string
  /** SHA-256 of its certificate, in hexadecimal digits in groups of four. */
  fingerprint: string
}

export interface PackTools extends ProofTools {
  hasher(): Hasher
  utf8(bytes: Uint8Array): string
  /** Reads a time-stamp about some content; rejects with what is wrong with it. Absent where that cannot be done. */
  timeStamp?: (answer: Uint8Array, content: Uint8Array) => Promise<TimeStamp>
}

/** What was checked where, and how it came out. */
export interface PackFinding extends ProofStep {
  /** The file in the pack; empty for the pack as a whole. */
  file: string
  /** 0 for what is about a file as a whole. */
  line: number
}

export interface PackReport {
  cover: PackCover | null
  saves: number
  passed: number
  failed: number
  skipped: number
  /** By rule. */
  rules: { rule: string; passed: number; failed: number; skipped: number }[]
  /** What failed or was skipped, the first some hundred. */
  findings: PackFinding[]
  /** Whether the key that it was checked with came with the pack itself. */
  ownKey: boolean
  /** Of that key, to be compared with the one that was handed out. */
  fingerprint: string | null
  checkpoint: Checkpoint | null
  signedAt: string | null
  timeStamp: TimeStamp | null
  /** Nothing failed and something was proved; something failed; nothing failed and nothing is proved. */
  verdict: 'holds' | 'does not hold' | 'not proved'
}

export interface PackCheck {
  /** The ledger's public key as one line, from somebody other than whoever gave the pack. */
  key?: string | undefined
  nowMs: number
  /** Told of the bytes that were read; what it throws ends the check. */
  onProgress?: ((read: number, size: number) => void) | undefined
}

const mostFindings = 500
/** Clocks differ; what was made further in the future than this does not hold. */
const clockMs = 300_000
/** Little, since it may unpack to a thousand times as much. */
const chunkBytes = 1 << 16
/** Files that are read whole. */
const mostWhole = 4_000_000
/** No save is longer. */
export const longestSave = 64 * 1024 * 1024
const mostClosed = 100_000

export async function checkPack(
  file: PartedFile,
  tools: PackTools,
  { key, nowMs, onProgress }: PackCheck,
): Promise<PackReport> {
  const report = new Reporting()
  const archive = await readDirectory(file)
  if ('words' in archive) {
    report.say('', 0, step('21', `${archive.words} (at byte ${archive.at})`, false))
    return report.end()
  }
  const { entries } = archive
  const folder = entries[0]?.name.split('/')[0] ?? ''
  const nameOf = ({ name }: PackEntry) => (name.startsWith(`${folder}/`) ? name.slice(folder.length + 1) : name)
  const whole = new Map<string, Uint8Array>()
  const digests = new Map<string, Uint8Array>()
  const saves = new SavesCheck(tools, report, { key, nowMs })
  const before = tools.hasher()
  const signatureAt = entries.find((entry) => nameOf(entry) === packFiles.signature)?.offset ?? null
  for (const entry of entries) {
    const name = nameOf(entry)
    const reader = new EntryReader(file, entry, tools)
    const covered = signatureAt === null || entry.offset < signatureAt
    const cutter = name === packFiles.saves ? new LineCutter(longestSave) : null
    const kept: Uint8Array[] = []
    const fault = await reader.read({
      raw: (bytes) => {
        if (covered) before.update(bytes)
      },
      content: (bytes) => {
        if (cutter) for (const line of cutter.push(bytes)) saves.line(line)
        else if (entry.size <= mostWhole && !name.startsWith('data/') !== (name === packFiles.cover))
          kept.push(bytes.slice())
      },
      progress: (at) => onProgress?.(at, file.size),
    })
    if (cutter) for (const line of cutter.rest()) saves.line(line)
    report.say(name, 0, step('21', fault ?? 'The file lies in the archive as it has to.', fault === null))
    digests.set(name, reader.digest())
    if (kept.length > 0) whole.set(name, joinBytes(...kept))
  }
  saves.finish()
  const textOfFile = (name: string) => {
    const bytes = whole.get(name)
    return bytes && tools.utf8(bytes)
  }
  checkBag(report, textOfFile, digests)
  checkSignature(report, tools, saves, textOfFile(packFiles.signature), {
    digest: () => before.digest(),
    bytes: signatureAt,
    manifest: digests.get(packFiles.tagManifest),
    folder,
    nowMs,
  })
  await checkTimeStamp(report, tools, whole, nowMs)
  report.cover = checkCover(report, saves, textOfFile(packFiles.cover), folder)
  return report.end(saves)
}

class Reporting {
  cover: PackCover | null = null
  signedAt: string | null = null
  timeStamp: TimeStamp | null = null
  readonly #tally = new Map<string, { rule: string; passed: number; failed: number; skipped: number }>()
  readonly #findings: PackFinding[] = []

  say(file: string, line: number, { rule, words, outcome }: ProofStep): void {
    const tally = this.#tally.get(rule) ?? { rule, passed: 0, failed: 0, skipped: 0 }
    tally[outcome]++
    this.#tally.set(rule, tally)
    if (outcome === 'passed') return
    // What fails is never crowded out by what was only skipped.
    if (this.#findings.length >= mostFindings) {
      const at = outcome === 'failed' ? this.#findings.findIndex((one) => one.outcome === 'skipped') : -1
      if (at < 0) return
      this.#findings.splice(at, 1)
    }
    this.#findings.push({ file, line, rule, words, outcome })
  }

  end(saves?: SavesCheck): PackReport {
    const rules = [...this.#tally.values()].sort((a, b) => Number(a.rule) - Number(b.rule))
    const sum = (outcome: ProofStep['outcome']) => rules.reduce((all, rule) => all + rule[outcome], 0)
    const failed = sum('failed')
    const proved = saves?.proved === true && this.signedAt !== null
    return {
      cover: this.cover,
      saves: saves?.count ?? 0,
      passed: sum('passed'),
      failed,
      skipped: sum('skipped'),
      rules,
      findings: this.#findings.sort((a, b) => rank(a.outcome) - rank(b.outcome)),
      ownKey: saves?.ownKey ?? true,
      fingerprint: saves?.fingerprint ?? null,
      checkpoint: saves?.checkpoint ?? null,
      signedAt: this.signedAt,
      timeStamp: this.timeStamp,
      verdict: failed > 0 ? 'does not hold' : proved ? 'holds' : 'not proved',
    }
  }
}

/** What is said where the claim of a rule that others check by as well does not hold. */
const otherwise: Readonly<Record<string, string>> = {
  3: 'A value is shown that is not the one that the save commits to.',
  6: 'The save cannot be read.',
  8: 'The seal cannot be read.',
  10: 'The seal was not signed with this key.',
}

/** What is said where it holds, and where it does not. */
const claim = (rule: string, holds: boolean, words: string, otherwise: string): ProofStep =>
  step(rule, holds ? words : otherwise, holds)

const rank = (outcome: ProofStep['outcome']) => (outcome === 'failed' ? 0 : 1)

interface EntryTakers {
  /** The bytes as they lie in the archive. */
  raw(bytes: Uint8Array): void
  /** The bytes of the file. */
  content(bytes: Uint8Array): void
  progress(at: number): void
}

/** Reads one file of the archive from its head to behind its end. */
class EntryReader {
  readonly #file: PartedFile
  readonly #entry: PackEntry
  readonly #hash: Hasher

  constructor(file: PartedFile, entry: PackEntry, tools: PackTools) {
    this.#file = file
    this.#entry = entry
    this.#hash = tools.hasher()
  }

  digest(): Uint8Array {
    return this.#hash.digest()
  }

  /** @returns what is wrong with how it lies there, or null */
  async read({ raw, content, progress }: EntryTakers): Promise<string | null> {
    const entry = this.#entry
    const from = contentAt(entry)
    const head = await this.#file.read(entry.offset, from)
    raw(head)
    const faults: string[] = []
    const apart = parting(head, entryHead(entry.name))
    if (apart !== null) faults.push(`Its head is not written as in a pack (at byte ${entry.offset + apart}).`)
    let size = 0
    let ended = false
    const take = (bytes: Uint8Array, final: boolean) => {
      size += bytes.length
      ended ||= final
      if (size > entry.size) return
      this.#hash.update(bytes)
      content(bytes)
    }
    const inflate = isPacked(entry.name) ? new Inflate(take) : { push: take }
    for (let at = from; at < from + entry.packed; at += chunkBytes) {
      const to = Math.min(from + entry.packed, at + chunkBytes)
      const bytes = await this.#file.read(at, to)
      raw(bytes)
      progress(to)
      if (size > entry.size || faults.length > 0) continue
      try {
        inflate.push(bytes, to === from + entry.packed)
      } catch {
        faults.push(`It cannot be unpacked (between bytes ${at} and ${to}).`)
      }
    }
    if (size > entry.size) faults.push('It unpacks to more than it says.')
    else if (faults.length === 0 && (size < entry.size || !ended)) faults.push('It unpacks to less than it says.')
    const end = from + entry.packed
    const descriptor = await this.#file.read(end, end + descriptorBytes)
    raw(descriptor)
    const differs = parting(descriptor, entryDescriptor(entry))
    if (differs !== null) faults.push(`What stands behind it is not written as in a pack (at byte ${end + differs}).`)
    return faults.length > 0 ? faults.join(' ') : null
  }
}

/** The saves of a pack, line by line (rules 3, 6, 8, 10, 17 and 18). */
class SavesCheck {
  readonly #tools: PackTools
  readonly #report: Reporting
  readonly #options: { key: string | undefined; nowMs: number }
  readonly #root: FilledRoot
  #stage: 'heading' | 'saves' | 'done' = 'heading'
  #said = 0
  #sealed = 0
  /** Whether the tree can still be put together. */
  #whole = true
  count = 0
  /** Changes that were asked for. */
  changes = 0
  unsealed = 0
  /** By why they are not open: how many. */
  readonly closed = new Map<string, number>()
  keyLine: string | null = null
  readonly ownKey: boolean
  fingerprint: string | null = null
  checkpoint: Checkpoint | null = null
  proved = false

  constructor(tools: PackTools, report: Reporting, options: { key: string | undefined; nowMs: number }) {
    this.#tools = tools
    this.#report = report
    this.#options = options
    this.#root = new FilledRoot(tools.sha256)
    this.ownKey = options.key === undefined
  }

  #say(line: number, one: ProofStep): void {
    this.#report.say(packFiles.saves, line, one)
  }

  line(line: PackLine): void {
    const { number } = line
    if ('tooLong' in line)
      return this.#say(number, step('18', 'The line is longer than any save; it was not read.', false))
    const value = parsed(this.#tools.utf8(line.bytes))
    if (this.#stage === 'done') return this.#say(number, step('18', 'There is something after the last line.', false))
    if (this.#stage === 'heading') return this.#heading(number, value)
    if (typeof field(value, 'saves') === 'number') return this.#last(number, value)
    this.#save(number, value)
  }

  #heading(number: number, value: unknown): void {
    this.#stage = 'saves'
    if (text(value, 'spoor') !== savesHeading)
      this.#say(number, step('18', 'These are no saves of a pack, or of another version.', false))
    const { key, nowMs } = this.#options
    const note = text(value, 'seal')
    this.keyLine = key ?? text(value, 'key')
    const read = this.keyLine === null ? null : readKeyLine(this.#tools.sha256, this.keyLine)
    this.fingerprint = read && keyFingerprint(this.#tools.sha256, read)
    if (key === undefined)
      this.#say(
        number,
        step(
          '10',
          'The key came with the pack. Compare its fingerprint with the one that was handed out, or give the key.',
          null,
        ),
      )
    if (note === null) return this.#say(number, step('8', 'There is no seal: nothing was sealed yet.', null))
    const { steps, checkpoint } = proveSeal(this.#tools, note, this.keyLine)
    for (const one of steps) this.#say(number, one.outcome === 'failed' ? { ...one, words: otherwise[one.rule]! } : one)
    if (checkpoint && Date.parse(checkpoint.at) > nowMs + clockMs)
      this.#say(number, step('8', `The seal says that it was made at ${checkpoint.at}, which is yet to come.`, false))
    // Without a seal that holds, what it says proves nothing.
    this.checkpoint = steps.some((one) => one.outcome === 'failed') ? null : checkpoint
  }

  #save(number: number, value: unknown): void {
    this.count++
    const save = handed(value)
    if (save === null) {
      this.#whole = false
      return this.#say(number, step('18', 'The line is no save of a pack.', false))
    }
    const values = proveValues(this.#tools, save)
    this.#say(number, values.outcome === 'failed' ? { ...values, words: otherwise[values.rule]! } : values)
    if (!accountsForAll(save))
      this.#say(number, step('18', 'It does not say of each of its changes whether it is open, and why not.', false))
    this.changes += save.openings.length
    for (const why of Object.values(save.closed)) {
      this.closed.set(why, (this.closed.get(why) ?? 0) + 1)
      if (why !== notAskedFor) this.changes++
    }
    const leaf = this.#tools.sha256(leafText(save.canonical))
    if (save.leaf !== toHex(leaf.subarray(0, leafDigits / 2)))
      this.#say(number, step('18', 'The save is not the one that was put into the pack.', false))
    if (save.index === null) {
      this.unsealed++
      return this.#say(number, step('8', 'The save was not sealed yet when the pack was made.', null))
    }
    this.#sealed++
    if (!this.#root.fill(save.index, save.fill)) {
      this.#whole = false
      this.#say(
        number,
        step(
          '17',
          `It cannot be leaf ${save.index}, where it stands: what fills the tree before it is not there.`,
          false,
        ),
      )
    } else this.#root.leaf(leaf)
  }

  #last(number: number, value: unknown): void {
    this.#stage = 'done'
    this.#said = field(value, 'saves') as number
    const fill = hashes(text(value, 'fill'))
    const size = this.checkpoint?.size
    if (size !== undefined && (fill === null || !this.#root.fill(size, fill))) {
      this.#whole = false
      this.#say(number, step('17', 'What fills the tree behind the last save is not there.', false))
    }
  }

  finish(): void {
    const { checkpoint } = this
    if (this.#stage === 'heading') return this.#say(0, step('18', 'There are no saves in it.', false))
    if (this.#stage === 'saves') return this.#say(0, step('18', 'The last line is missing: it was cut off.', false))
    this.#say(
      0,
      step(
        '18',
        `It says that it has ${counted(this.#said, 'save')}, and it has ${this.count}.`,
        this.#said === this.count,
      ),
    )
    if (checkpoint === null) return this.#say(0, step('17', 'There is no seal to check the saves’ places with.', null))
    const { size, root } = this.#root.root()
    this.proved = this.#whole && size === checkpoint.size && sameBytes(root, checkpoint.root)
    this.#say(
      0,
      claim(
        '17',
        this.proved,
        `${counted(this.#sealed, 'save is', 'saves are')} among the ${checkpoint.size} that the seal covers, each at its place.`,
        `The saves are not among the ${checkpoint.size} that the seal covers, or not at their places.`,
      ),
    )
  }
}

/** Hexadecimal digits of a leaf that stand beside its save, only to say which one was altered. */
export const leafDigits = 16

function checkBag(
  report: Reporting,
  textOfFile: (name: string) => string | undefined,
  digests: ReadonlyMap<string, Uint8Array>,
): void {
  const declared = textOfFile(packFiles.bag) === bagDeclaration
  report.say(packFiles.bag, 0, claim('19', declared, 'It declares a bag.', 'It does not declare a bag.'))
  const manifest = readManifest(textOfFile(packFiles.manifest) ?? '')
  const tags = readManifest(textOfFile(packFiles.tagManifest) ?? '')
  for (const [name, list] of [
    [packFiles.manifest, manifest],
    [packFiles.tagManifest, tags],
  ] as const)
    if (list === null) report.say(name, 0, step('19', 'The manifest cannot be read.', false))
  if (manifest === null || tags === null) return
  const listed = new Map([...manifest, ...tags])
  const free = new Set<string>([packFiles.tagManifest, packFiles.signature, packFiles.timeStamp])
  for (const [name, digest] of digests) {
    const said = listed.get(name)
    if (said !== undefined)
      report.say(
        name,
        0,
        claim(
          '19',
          said === toHex(digest),
          'The file has the digest that its manifest names.',
          'The file is not the one that its manifest names: its digest is another.',
        ),
      )
    else if (!free.has(name)) report.say(name, 0, step('19', 'The file is in no manifest.', false))
  }
  for (const name of listed.keys())
    if (!digests.has(name)) report.say(name, 0, step('19', 'The file is missing.', false))
  for (const name of [packFiles.info, packFiles.manifest, packFiles.bag])
    if (!tags.has(name)) report.say(packFiles.tagManifest, 0, step('19', `It does not name ${name}.`, false))
}

interface Signed {
  digest(): Uint8Array
  /** Where the signature begins. */
  bytes: number | null
  manifest: Uint8Array | undefined
  folder: string
  nowMs: number
}

function checkSignature(
  report: Reporting,
  { sha256, signed }: PackTools,
  { keyLine }: SavesCheck,
  content: string | undefined,
  { digest, bytes, manifest, folder, nowMs }: Signed,
): void {
  const say = (holds: boolean | null, words: string, not: string) => {
    report.say(packFiles.signature, 0, step('20', holds === true ? words : not, holds))
    return holds === true
  }
  const note = readNote(content ?? '')
  const statement = note && readPackStatement(note.text)
  if (
    !say(Boolean(statement), 'The signature can be read.', 'There is no signature that can be read.') ||
    !note ||
    !statement
  )
    return
  const key = keyLine === null ? null : readKeyLine(sha256, keyLine)
  if (!key) {
    say(keyLine === null ? null : false, '', 'There is no key to check the signature with.')
    return
  }
  const signature = signatureBy(sha256, note, key)
  const own = signature !== null && signed(signature, note.text, key.publicKey) && key.name === statement.origin
  const holds = [
    say(own, 'The pack was signed with the ledger’s key.', 'The pack was not signed with this key.'),
    say(
      statement.bytes === bytes && sameBytes(statement.archive, digest()),
      'The archive is the one that was signed.',
      'The archive is not the one that was signed.',
    ),
    say(
      manifest !== undefined && sameBytes(statement.manifest, manifest),
      'The manifests are those that were signed.',
      'The manifests are not those that were signed.',
    ),
    say(
      folder === `pack-${statement.number}`,
      `It is pack ${statement.number}, as its folder says.`,
      `It is pack ${statement.number}, and its folder says another.`,
    ),
  ]
  const late = Date.parse(statement.at) > nowMs + clockMs
  if (late) say(false, '', `It says that it was signed at ${statement.at}, which is yet to come.`)
  if (holds.every(Boolean) && !late) report.signedAt = statement.at
}

/** Whether an authority saw the manifests, which name everything else, and when. */
async function checkTimeStamp(
  report: Reporting,
  tools: PackTools,
  whole: ReadonlyMap<string, Uint8Array>,
  nowMs: number,
): Promise<void> {
  const say = (words: string, holds: boolean | null) => report.say(packFiles.timeStamp, 0, step('22', words, holds))
  const [answer, content] = [whole.get(packFiles.timeStamp), whole.get(packFiles.tagManifest)]
  if (!answer) return say('It has no time-stamp: only the ledger’s own key says when it was made.', null)
  if (!tools.timeStamp) return say('Time-stamps cannot be checked here: the page has to be reached over https.', null)
  try {
    const stamp = await tools.timeStamp(answer, content ?? new Uint8Array())
    say(`${stamp.by} saw the manifests at ${stamp.at}.`, true)
    if (Date.parse(stamp.at) > nowMs + clockMs) return say('That is yet to come.', false)
    report.timeStamp = stamp
  } catch (error) {
    say((error as Error).message, false)
  }
}

/** What the first page says is what is in it. */
function checkCover(
  report: Reporting,
  saves: SavesCheck,
  content: string | undefined,
  folder: string,
): PackCover | null {
  const say = (holds: boolean, words: string, not: string) =>
    report.say(packFiles.cover, 0, claim('18', holds, words, not))
  const cover = readCover(content)
  if (cover === null) {
    say(false, '', 'There is no first page that can be read.')
    return null
  }
  say(
    `pack-${cover.number}` === folder,
    `The first page is that of ${folder}.`,
    `The first page is that of pack ${cover.number}, and not of ${folder}.`,
  )
  const { holds } = cover
  const counts = `The first page says ${counted(holds.changes, 'change')} in ${counted(holds.saves, 'save')}, and there are ${saves.changes} in ${saves.count}`
  say(
    holds.changes === saves.changes && holds.saves === saves.count && cover.unsealed === saves.unsealed,
    `${counts}.`,
    `${counts}, ${saves.unsealed} of them under no seal where it says ${cover.unsealed}.`,
  )
  const said = new Map<string, number>()
  for (const { why, values } of cover.closed) said.set(why, (said.get(why) ?? 0) + values)
  const found = [...saves.closed].filter(([why]) => why !== notAskedFor)
  say(
    found.length === said.size && found.every(([why, n]) => said.get(why) === n),
    'The values that cannot be read are as many as the first page says, for the reasons that it says.',
    'Other values cannot be read than the first page says, or for other reasons.',
  )
  say(
    saves.checkpoint === null || (cover.seal?.at === saves.checkpoint.at && cover.seal.size === saves.checkpoint.size),
    'The seal is the one that the first page names.',
    'The seal is not the one that the first page names.',
  )
  return cover
}

const hashBytes = 32
const mostFill = 128

/** Hashes one behind the other, in base64. */
function hashes(packed: string | null): Uint8Array[] | null {
  const bytes = packed === null ? null : fromBase64(packed)
  if (!bytes || bytes.length % hashBytes !== 0 || bytes.length > mostFill * hashBytes) return null
  return Array.from({ length: bytes.length / hashBytes }, (_, at) =>
    bytes.subarray(at * hashBytes, (at + 1) * hashBytes),
  )
}

interface PackedSave {
  index: number | null
  leaf: string
  fill: readonly Uint8Array[]
  canonical: string
  openings: readonly Opening[]
  closed: Readonly<Record<string, string>>
}

/** A line as a save of a pack; null for whatever is none. */
function handed(value: unknown): PackedSave | null {
  const [index, openings] = [leafIndex(value), openingsOf(value)]
  const [leaf, canonical, closed] = [text(value, 'leaf'), text(value, 'canonical'), field(value, 'closed')]
  const fill = hashes(text(value, 'fill'))
  if (index === undefined || openings === null || fill === null || leaf === null || canonical === null) return null
  if (typeof closed !== 'object' || closed === null || Array.isArray(closed)) return null
  const reasons = Object.values(closed)
  if (reasons.length > mostClosed || !reasons.every((why) => typeof why === 'string')) return null
  return { index, leaf, fill, canonical, openings, closed: closed as Record<string, string> }
}

/** Whether each of its changes is either open or said to be closed, and none is both. */
function accountsForAll({ canonical, openings, closed }: PackedSave): boolean {
  const changes = field(parsed(canonical), 'changes')
  if (!Array.isArray(changes)) return false
  const told = [...openings.map(({ fieldId }) => String(fieldId)), ...Object.keys(closed)]
  const own = new Set(changes.map((change: unknown) => String(field(change, 'fieldId'))))
  return told.length === own.size && new Set(told).size === own.size && told.every((id) => own.has(id))
}

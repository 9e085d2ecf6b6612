import { createPublicKey, hash, verify as verifySignature } from 'node:crypto'
import {
  field,
  joinBytes,
  keyFingerprint,
  leafIndex,
  openingsOf,
  parsed,
  proveSave,
  proveSeal,
  readKeyLine,
  text,
  type Checkpoint,
  type HandedSave,
  type ProofStep,
  type ProofTools,
} from '@spoor/core'
import { linesOf } from './lines.ts'

/** What was checked: where in the file, by which rule of docs/proof.md, and how it came out. */
export interface Finding extends ProofStep {
  /** 0 for what is about the file as a whole. */
  line: number
}

export interface Report {
  saves: number
  passed: number
  failed: number
  skipped: number
  /** Everything that failed or was skipped, the first some hundred. */
  findings: Finding[]
  /** Of the key the seal was checked with, to be compared with the one that was handed out. */
  fingerprint: string | null
  /** Of the seal. */
  checkpoint: Checkpoint | null
}

export interface VerifyOptions {
  /** The ledger's public key as one line, from somebody other than whoever gave the file. */
  key?: string
  /** A seal to check against instead of the one in the file. */
  seal?: string
  /** When it is checked, for seals from the future; epoch milliseconds. */
  nowMs: number
}

/** What Spoor writes first into such a file. */
const heading = 'proved saves, 1'
const mostFindings = 500
/** Clocks differ; a seal from further in the future than this does not hold. */
const clockMs = 300_000

/** What an Ed25519 public key begins with as SubjectPublicKeyInfo (RFC 8410, 4). */
const spkiHead = Uint8Array.from([0x30, 0x2a, 0x30, 0x05, 0x06, 0x03, 0x2b, 0x65, 0x70, 0x03, 0x21, 0x00])

export const tools: ProofTools = {
  sha256: (data) => hash('sha256', data, 'buffer'),
  sha256Hex: (text) => hash('sha256', text, 'hex'),
  signed(signature, text, publicKey) {
    if (publicKey.length !== 32) return false
    const key = createPublicKey({ key: Buffer.from(joinBytes(spkiHead, publicKey)), type: 'spki', format: 'der' })
    return verifySignature(null, Buffer.from(text), key, signature)
  },
}

/** Checks a file of proved saves, line by line, in little memory. Whatever the file holds, the answer is a report. */
export async function verify(chunks: AsyncIterable<Buffer | string>, options: VerifyOptions): Promise<Report> {
  const report: Report = {
    saves: 0,
    passed: 0,
    failed: 0,
    skipped: 0,
    findings: [],
    fingerprint: null,
    checkpoint: null,
  }
  const say = (line: number, rule: string, words: string, outcome: ProofStep['outcome']) => {
    report[outcome]++
    if (outcome !== 'passed' && report.findings.length < mostFindings)
      report.findings.push({ line, rule, words, outcome })
  }
  let stage: 'heading' | 'saves' | 'done' = 'heading'
  for await (const line of linesOf(chunks)) {
    if ('tooLong' in line) {
      say(line.number, 'file', 'The line is longer than any save; it was not read.', 'failed')
      continue
    }
    const value = parsed(line.text)
    if (stage === 'done') say(line.number, 'file', 'There is something after the last line.', 'failed')
    else if (stage === 'heading') {
      stage = 'saves'
      if (text(value, 'spoor') !== heading) {
        say(line.number, 'file', 'This is no file of proved saves, or one of another version.', 'failed')
        return report
      }
      for (const step of begin(report, value, options)) say(line.number, step.rule, step.words, step.outcome)
    } else if (typeof field(value, 'saves') === 'number') {
      stage = 'done'
      const whole = field(value, 'saves') === report.saves
      say(
        line.number,
        'file',
        `The file says that it has ${String(field(value, 'saves'))} saves, and it has ${report.saves}.`,
        whole ? 'passed' : 'failed',
      )
    } else {
      report.saves++
      const save = handed(value)
      if (save === null) say(line.number, '6', 'The line is no save with its proof.', 'failed')
      else if (save.index === null)
        say(line.number, '8', 'The save was not sealed yet when it was taken out.', 'skipped')
      else
        for (const step of proveSave(tools, { ...save, index: save.index }, report.checkpoint))
          say(line.number, step.rule, step.words, step.outcome)
    }
  }
  if (stage === 'heading') say(0, 'file', 'The file is empty.', 'failed')
  if (stage === 'saves') say(0, 'file', 'The last line is missing: the file was cut off.', 'failed')
  return report
}

/** The seal and the key that everything is checked with. */
function begin(report: Report, value: unknown, { key, seal, nowMs }: VerifyOptions): ProofStep[] {
  const note = seal ?? text(value, 'seal')
  const line = key ?? text(value, 'key')
  if (note === null) return [{ rule: '8', words: 'There is no seal: nothing was sealed yet.', outcome: 'skipped' }]
  const { steps, checkpoint } = proveSeal(tools, note, line)
  const read = line === null ? null : readKeyLine(tools.sha256, line)
  report.fingerprint = read && keyFingerprint(tools.sha256, read)
  // Without a seal that holds, what it says proves nothing.
  report.checkpoint = steps.some((step) => step.outcome === 'failed') ? null : checkpoint
  const more: ProofStep[] = []
  if (key === undefined)
    more.push({
      rule: '10',
      words: 'The key came with the file. Compare its fingerprint with the one that was handed out, or give the key.',
      outcome: 'skipped',
    })
  if (checkpoint && Date.parse(checkpoint.at) > nowMs + clockMs)
    more.push({
      rule: '8',
      words: `The seal says that it was made at ${checkpoint.at}, which is yet to come.`,
      outcome: 'failed',
    })
  return [...steps, ...more]
}

const mostProof = 64

/** A line as a save with its proof; null for whatever is none. */
function handed(value: unknown): (Omit<HandedSave, 'index'> & { index: number | null }) | null {
  const [index, openings] = [leafIndex(value), openingsOf(value)]
  const [canonical, proof] = [text(value, 'canonical'), field(value, 'proof')]
  if (index === undefined || openings === null || canonical === null) return null
  if (!Array.isArray(proof) || proof.length > mostProof || !proof.every((one) => typeof one === 'string')) return null
  return { index, canonical, proof, openings }
}

import { clockWords } from '../time/zone.ts'
import { counted, grouped } from '../words/list.ts'
import type { PackFinding, PackReport } from './check.ts'

/** What each rule of `docs/proof.md` that a pack is checked by is about. */
export const packRules: Readonly<Record<string, string>> = {
  3: 'values are those that the saves commit to',
  6: 'saves can be read',
  8: 'the seal',
  10: 'the key and the seal’s signature',
  17: 'the saves’ places in the ledger',
  18: 'what the files say of themselves and of one another',
  19: 'the manifests name every file',
  20: 'the pack’s signature',
  21: 'the archive’s form',
  22: 'the time-stamp',
}

/** What it comes to. */
export function verdictWords({ verdict, ownKey }: Pick<PackReport, 'verdict' | 'ownKey'>): string {
  if (verdict === 'does not hold') return 'It does not hold.'
  if (verdict === 'not proved') return 'Nothing in it is wrong, and it is not proved either.'
  return ownKey
    ? 'It holds under the key that came with it. Give the ledger’s own key to be sure whose it is.'
    : 'It holds: nothing in this pack was altered since it was made.'
}

/** "data/saves.ndjson, line 4, rule 3: …". */
export function findingWords({ file, line, rule, words }: PackFinding): string {
  const place = file === '' ? 'the archive' : line === 0 ? file : `${file}, line ${line}`
  return `${place}, rule ${rule}: ${words}`
}

/** What was found, for who reads it: the same words wherever a pack is checked. */
export function reportLines(report: PackReport): string[] {
  const { cover, saves, passed, failed, skipped, rules, findings, fingerprint, checkpoint, signedAt, timeStamp } =
    report
  const left = failed + skipped - findings.length
  return [
    ...(cover ? [`Pack ${cover.number}, “${cover.title}”: ${cover.sentence}`] : []),
    ...rules.map(
      (rule) =>
        `rule ${rule.rule}, ${packRules[rule.rule] ?? 'another'}: ${grouped(rule.passed)} passed, ${grouped(rule.failed)} failed, ${grouped(rule.skipped)} skipped`,
    ),
    ...findings.map((finding) => `${finding.outcome.toUpperCase().padEnd(8)}${findingWords(finding)}`),
    ...(left > 0 ? [`and ${grouped(left)} more`] : []),
    ...(checkpoint
      ? [`Seal of ${checkpoint.origin}, ${clockWords(checkpoint.at, 'UTC')}, over ${grouped(checkpoint.size)} saves.`]
      : []),
    ...(signedAt ? [`Signed ${clockWords(signedAt, 'UTC')}.`] : []),
    ...(timeStamp
      ? [`Time-stamped ${clockWords(timeStamp.at, 'UTC')} by ${timeStamp.by}, certificate ${timeStamp.fingerprint}.`]
      : []),
    ...(fingerprint ? [`Key fingerprint: ${fingerprint}`] : []),
    `${counted(saves, 'save')}; ${grouped(passed)} checks passed, ${grouped(failed)} failed, ${grouped(skipped)} skipped.`,
    verdictWords(report),
  ]
}

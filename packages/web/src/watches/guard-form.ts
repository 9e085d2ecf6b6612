import type { Vocabulary } from '@spoor/contract'
import { guardTrouble, testFits, type Guard, type GuardAct, type GuardTest } from '@spoor/core'
import { computed, reactive } from 'vue'
import { readerZone } from '../value/time.ts'

type TestName = GuardTest['test']

/** What stands for "nothing" among values that somebody types. */
export const nothing = '\u2205 nothing'

const fromTyped = (values: readonly string[]) => values.map((value) => (value === nothing ? null : value))
const toTyped = (values: readonly (string | null)[]) => values.map((value) => value ?? nothing)

export const testNames: readonly { value: TestName; label: string }[] = [
  { value: 'any', label: 'to whatever value' },
  { value: 'to', label: 'to one of' },
  { value: 'to-other', label: 'to anything but' },
  { value: 'from', label: 'away from one of' },
  { value: 'outside', label: 'to less or more than' },
  { value: 'rises', label: 'up by more than' },
  { value: 'falls', label: 'down by more than' },
  { value: 'emptied', label: 'to nothing' },
  { value: 'shrinks', label: 'so that a member goes' },
  { value: 'past', label: 'to a day that is past' },
  { value: 'future', label: 'to a day to come' },
]

export type Whom = 'all' | 'these' | 'others'
export type Hours = 'always' | 'within' | 'outside'

/**
 * The parts of a guard as somebody enters them, and the guard that they come to.
 * @param baseTypeOf of a field, and `nameOf` its name
 */
export function useGuardForm(
  given: Guard | null,
  baseTypeOf: (fieldId: number) => string,
  nameOf: (fieldId: number) => string,
) {
  const test = given?.test
  const form = reactive({
    name: given?.name ?? '',
    words: given?.words ?? '',
    mode: given?.mode ?? ('warn' as Guard['mode']),
    acts: [...(given?.acts ?? ['change'])] as GuardAct[],
    fieldId: given?.fieldId ?? null,
    test: (test?.test ?? 'any') as TestName,
    values: test && 'values' in test ? toTyped(test.values) : ([] as string[]),
    least: test?.test === 'outside' ? (test.least ?? '') : '',
    most: test?.test === 'outside' ? (test.most ?? '') : '',
    by: test && 'by' in test ? test.by : '',
    share: test && 'share' in test ? test.share : false,
    heldId: given?.held?.fieldId ?? null,
    heldValues: toTyped(given?.held?.values ?? []),
    heldOther: given?.held?.other ?? false,
    whom: (given?.by ? (given.by.others ? 'others' : 'these') : 'all') as Whom,
    actors: [...(given?.by?.actors ?? [])],
    kinds: [...(given?.by?.kinds ?? [])],
    channels: [...(given?.by?.channels ?? [])],
    logins: [...(given?.by?.logins ?? [])],
    hours: (given?.times ? (given.times.outside ? 'outside' : 'within') : 'always') as Hours,
    days: [...(given?.times?.days ?? [1, 2, 3, 4, 5])],
    from: given?.times?.from ?? '08:00',
    to: given?.times?.to ?? '18:00',
    withoutReason: given?.withoutReason ?? false,
    above: given?.above ?? null,
  })

  function testOf(): GuardTest {
    switch (form.test) {
      case 'from':
      case 'to':
      case 'to-other':
        return { test: form.test, values: fromTyped(form.values) }
      case 'outside':
        return { test: 'outside', least: form.least.trim() || null, most: form.most.trim() || null }
      case 'rises':
      case 'falls':
        return { test: form.test, by: form.by.trim(), share: form.share }
      default:
        return { test: form.test }
    }
  }

  const guard = computed<Guard>(() => ({
    name: form.name.trim(),
    words: form.words.trim(),
    mode: form.mode,
    acts: form.acts,
    fieldId: form.fieldId,
    test: form.fieldId === null ? { test: 'any' } : testOf(),
    held:
      form.heldId === null ? null : { fieldId: form.heldId, values: fromTyped(form.heldValues), other: form.heldOther },
    by:
      form.whom === 'all'
        ? null
        : {
            actors: form.actors,
            kinds: form.kinds,
            channels: form.channels,
            logins: form.logins,
            others: form.whom === 'others',
          },
    times:
      form.hours === 'always'
        ? null
        : { days: form.days, from: form.from, to: form.to, outside: form.hours === 'outside' },
    withoutReason: form.withoutReason,
    above: form.above,
    zone: given?.zone ?? readerZone,
  }))

  /** What contradicts itself, or is still to be said before it can be tried; null when nothing is. */
  const missing = computed(() => {
    const trouble = guardTrouble(guard.value, baseTypeOf, nameOf)
    return trouble === null ? null : `It ${trouble}.`
  })
  const unnamed = computed(() => {
    if (form.name.trim() === '') return 'Give it a name.'
    return form.words.trim() === '' ? 'Say what whoever is refused reads.' : null
  })
  return { form, guard, missing, unnamed }
}

/** The tests that values of a field can be put to; of a fingerprint only whether it is written at all. */
export function testsOf(field: Vocabulary['fields'][number] | undefined) {
  if (!field) return []
  if (field.fingerprint) return testNames.filter(({ value }) => value === 'any')
  return testNames.filter(({ value }) => testFits({ test: value } as GuardTest, field.baseType))
}

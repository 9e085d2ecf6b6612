import { counted } from '@spoor/core'
import { type CaseItem, type CaseKind, type CaseOpened, type CaseThing } from '@spoor/contract'
import type { Knex } from 'knex'
import { boundArray, type Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import type { SignedIn } from '../http/bind.ts'
import { recordEvent } from '../ledger/events.ts'
import { holdOpen, newCase, readCase } from './store.ts'

interface Gathered {
  gathered: number
  already: number
}

/** What a kind of thing is kept as, and where it has to be. */
interface KindOfThing {
  column: string
  /** Of some values of that column those that there are. */
  exist: string
  noun: string
}

const byNumber: Readonly<Record<Exclude<CaseKind, 'record'>, KindOfThing>> = {
  save: {
    column: 'save_id',
    exist: 'select s.id from ledger.save s where s.id = any(?::bigint[])',
    noun: 'save',
  },
  question: {
    column: 'question_id',
    exist: 'select q.id from spoor.question q where q.id = any(?::bigint[])',
    noun: 'question',
  },
  note: { column: 'note_id', exist: 'select n.id from spoor.note n where n.id = any(?::bigint[])', noun: 'note' },
  correction: {
    column: 'correction_id',
    exist: 'select c.id from spoor.correction c where c.id = any(?::bigint[])',
    noun: 'correction',
  },
  pack: { column: 'pack_id', exist: 'select k.id from spoor.pack k where k.id = any(?::bigint[])', noun: 'pack' },
}

function numberOf(thing: Exclude<CaseThing, { kind: 'record' }>): string {
  switch (thing.kind) {
    case 'save':
      return thing.saveId
    case 'note':
      return thing.noteId
    case 'question':
      return String(thing.questionId)
    case 'correction':
      return String(thing.correctionId)
    case 'pack':
      return String(thing.packId)
  }
}

/**
 * Puts things into an open case, each once.
 * @throws Problem where one of them is not there; nothing is gathered then
 */
export async function gather(
  trx: Knex.Transaction,
  person: SignedIn,
  caseId: number,
  things: readonly CaseThing[],
): Promise<Gathered> {
  await holdOpen(trx, caseId)
  let [wanted, gathered] = [0, 0]
  for (const [kind, { column, exist, noun }] of Object.entries(byNumber)) {
    const numbers = [...new Set(things.flatMap((one) => (one.kind === kind ? numberOf(one as never) : [])))]
    if (numbers.length === 0) continue
    const bound = boundArray(numbers)
    const { rows } = await trx.raw<{ rows: { id: string }[] }>(exist, [bound])
    if (rows.length < numbers.length)
      throw new Problem('not-found', `A ${noun} of these is not there. Nothing was gathered.`)
    const { rowCount } = await trx.raw<{ rowCount: number }>(
      `insert into spoor.case_item (case_id, gathered_by, ${column})
       select ?, ?, one from unnest(?::bigint[]) with ordinality as listed(one, place) order by place on conflict do nothing`,
      [caseId, person.id, bound],
    )
    wanted += numbers.length
    gathered += rowCount
  }
  const records = new Map(
    things.flatMap((one) => (one.kind === 'record' ? [[`${one.typeId} ${one.recordKey}`, one] as const] : [])),
  )
  if (records.size > 0) {
    const of = [
      boundArray([...records.values()].map((one) => one.typeId)),
      boundArray([...records.values()].map((one) => one.recordKey)),
    ]
    const { rows } = await trx.raw<{ rows: unknown[] }>(
      `select 1 from unnest(?::int[], ?::text[]) as listed(type_id, record_key)
        where exists (select from spoor.record r where r.type_id = listed.type_id and r.record_key = listed.record_key)`,
      of,
    )
    if (rows.length < records.size)
      throw new Problem('not-found', 'A record of these is not in the trail. Nothing was gathered.')
    const { rowCount } = await trx.raw<{ rowCount: number }>(
      `insert into spoor.case_item (case_id, gathered_by, type_id, record_key)
       select ?, ?, type_id, record_key from unnest(?::int[], ?::text[]) as listed(type_id, record_key) on conflict do nothing`,
      [caseId, person.id, ...of],
    )
    wanted += records.size
    gathered += rowCount
  }
  if (gathered > 0)
    await recordEvent(trx, {
      kind: 'review',
      personId: person.id,
      words: `gathered ${counted(gathered, 'thing')} in case ${caseId}`,
    })
  return { gathered, already: wanted - gathered }
}

export async function gatherInCase(
  db: Database,
  person: SignedIn,
  caseId: number,
  things: readonly CaseThing[],
): Promise<Gathered & { case: CaseOpened }> {
  const done = await db.transaction((trx) => gather(trx, person, caseId, things))
  return { ...done, case: await readCase(db, caseId) }
}

export async function openCase(
  db: Database,
  person: SignedIn,
  { question, ownerId, things }: { question: string; ownerId: number; things: readonly CaseThing[] },
): Promise<CaseOpened> {
  const caseId = await db.transaction(async (trx) => {
    const id = await newCase(trx, person, { question, ownerId })
    await gather(trx, person, id, things)
    return id
  })
  return await readCase(db, caseId)
}

const itemsAtOnce = 100
/** Of a text no more than this is shown in a list. */
const cut = 300
const fieldsNamed = 6

interface ItemRow {
  id: string
  title: string
  about: string | null
  who: string | null
  at: string | null
  gathered_by: string
  gathered_at: string
  number: string
  type_id: number | null
}

/** For each kind: how an item `i` of it is called, what it is about, by whom and when, and where that stands. */
const told: Readonly<Record<CaseKind, { columns: string; from: string; is: string }>> = {
  save: {
    is: 'save_id',
    columns: `i.save_id as number, null::int as type_id, t.name || ' ' || s.label as title, s.captured_at as at,
      coalesce(k.name, a.name) as who,
      case s.action when 'create' then 'created: ' when 'delete' then 'deleted: ' else '' end ||
        (select string_agg(f.name, ', ' order by f.name) from (select distinct c.field_id from ledger.change c
           where c.save_id = s.id and c.captured_at = s.captured_at order by 1 limit ${fieldsNamed}) of_it
           join spoor.field f on f.id = of_it.field_id) as about`,
    from: `join ledger.save s on s.id = i.save_id join spoor.record_type t on t.id = s.type_id
      join spoor.actor a on a.id = s.actor_id left join spoor.actor k on k.id = a.same_as`,
  },
  record: {
    is: 'record_key',
    columns: `i.record_key as number, i.type_id, t.name || ' ' || coalesce(r.label, i.record_key) as title, null as about,
      null as who, null::timestamptz as at`,
    from: `join spoor.record_type t on t.id = i.type_id
      left join spoor.record r on r.type_id = i.type_id and r.record_key = i.record_key`,
  },
  question: {
    is: 'question_id',
    columns: `i.question_id as number, null::int as type_id, 'To ' || a.name || ': ' || left(q.text, ${cut}) as title,
      coalesce('Answered: ' || left(q.answer, ${cut}), 'Not answered yet.') as about, p.name as who, q.at`,
    from: `join spoor.question q on q.id = i.question_id join spoor.actor a on a.id = q.actor_id
      join spoor.person p on p.id = q.by`,
  },
  note: {
    is: 'note_id',
    columns: `i.note_id as number, null::int as type_id, left(n.text, ${cut}) as title, 'On save ' || n.save_id as about,
      p.name as who, n.at`,
    from: 'join spoor.note n on n.id = i.note_id join spoor.person p on p.id = n.by',
  },
  correction: {
    is: 'correction_id',
    columns: `i.correction_id as number, null::int as type_id, 'Correction ' || c.id as title,
      coalesce(left(coalesce(c.reason, c.proposed_reason), ${cut}), '') as about, p.name as who,
      coalesce(c.applied_at, c.drafted_at) as at`,
    from: 'join spoor.correction c on c.id = i.correction_id join spoor.person p on p.id = c.drafted_by',
  },
  pack: {
    is: 'pack_id',
    columns: `i.pack_id as number, null::int as type_id, 'Pack ' || k.id || ': ' || k.title as title,
      case k.state when 'withdrawn' then 'withdrawn' when 'failed' then 'not made' when 'going' then 'being made'
        else coalesce(left(k.cover ->> 'sentence', ${cut}), '') end as about, p.name as who, k.asked_at as at`,
    from: 'join spoor.pack k on k.id = i.pack_id join spoor.person p on p.id = k.made_by',
  },
}

function thingOf(kind: CaseKind, { number, type_id: typeId }: ItemRow): CaseThing {
  switch (kind) {
    case 'save':
      return { kind, saveId: number }
    case 'record':
      return { kind, typeId: typeId!, recordKey: number }
    case 'question':
      return { kind, questionId: Number(number) }
    case 'note':
      return { kind, noteId: number }
    case 'correction':
      return { kind, correctionId: Number(number) }
    case 'pack':
      return { kind, packId: Number(number) }
  }
}

/** What is gathered of one kind, in the order in which it was. */
export async function listItems(
  db: Database,
  caseId: number,
  { kind, after }: { kind: CaseKind; after?: string | undefined },
): Promise<{ items: CaseItem[]; next: string | null }> {
  const { columns, from, is } = told[kind]
  const { rows } = await db.raw<{ rows: ItemRow[] }>(
    `select i.id, g.name as gathered_by, i.gathered_at, ${columns}
       from spoor.case_item i join spoor.person g on g.id = i.gathered_by ${from}
      where i.case_id = ? and i.removed_at is null and i.${is} is not null and i.id > ?
      order by i.id limit ${itemsAtOnce + 1}`,
    [caseId, after ?? '0'],
  )
  const items = rows.slice(0, itemsAtOnce).map((row) => ({
    id: Number(row.id),
    thing: thingOf(kind, row),
    title: row.title,
    about: row.about ?? '',
    who: row.who,
    at: row.at,
    gatheredBy: row.gathered_by,
    gatheredAt: row.gathered_at,
  }))
  return { items, next: rows.length > itemsAtOnce ? String(items.at(-1)!.id) : null }
}

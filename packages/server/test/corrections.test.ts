import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import type { PlanEdit } from '@spoor/core'
import { applyCorrection, rehearseCorrection } from '../src/corrections/carry-out.ts'
import { proposeCorrection, sendCorrectionBack } from '../src/corrections/approval.ts'
import { applying, noteAttempt, settleAttempts, type Attempt } from '../src/corrections/attempt.ts'
import { draftCorrection, type PickedChange } from '../src/corrections/draft.ts'
import type { SignedIn } from '../src/http/bind.ts'
import { readDraft, stageDraft } from '../src/tracking/plan-store.ts'
import { putInForce } from '../src/tracking/put-in-force.ts'
import { waitingFor } from '../src/review/review.ts'
import { throughLossyWire } from './lossy.ts'
import { ledger, makeWorld, track, type LedgerEntry, type World } from './support.ts'
import { secondPerson, wholeCorrection, type WholeCorrection } from './whole-correction.ts'

let world: World
let admin: SignedIn
beforeAll(async () => {
  world = await makeWorld(`
    create table public.tenancy (id int primary key, rent numeric(8,2) check (rent < 1000), monthly numeric(8,2), notes text, twice numeric generated always as (rent * 2) stored);
    create function public.keep() returns trigger language plpgsql as $$ begin new.monthly := round(new.rent * 52 / 12, 2); return new; end $$;
    create trigger keep before insert or update on public.tenancy for each row execute function public.keep();
    create table public.pair ("Key 'a'" text, b int, "the ""value""" text, low int, high int, primary key ("Key 'a'", b), check (low <= high))`)
  await track(world, { tenancy: '*', pair: '*' })
  admin = world.admin
})
afterAll(() => world.close())

const sql = (text: string, values?: unknown[]) => world.business.query(text, values)
const deps = () => ({ db: world.db, sources: world.sources })
let nextId = 1

/** A tenancy with a first rent, then changed to a second. @returns its number and the save of the change. */
async function changed(from: string | null, to: string | null): Promise<{ id: number; save: LedgerEntry }> {
  const id = nextId++
  await sql('insert into tenancy (id, rent, notes) values ($1, $2, $3)', [id, from, 'n'])
  await sql('update tenancy set rent = $2 where id = $1', [id, to])
  await world.collect()
  return { id, save: (await ledger(world)).at(-1)! }
}
async function fieldId(column: string): Promise<number> {
  return (await world.db('spoor.field').where({ column_name: column }).first<{ id: number }>('id')).id
}
async function drafted(picked: PickedChange[]): Promise<WholeCorrection> {
  const id = await draftCorrection(world, { changes: picked }, admin)
  await rehearseCorrection(deps(), id, {}, admin)
  return await wholeCorrection(world, id)
}
const rentOf = async (id: number) =>
  (await sql('select rent from tenancy where id = $1', [id])).rows[0] as { rent: string | null } | undefined

describe('a revert', () => {
  it('puts the value back, is captured with its actor and reason, and is linked both ways', async () => {
    const { id, save } = await changed('110.00', '150.00')
    const correction = await drafted([{ saveId: save.id, fieldId: await fieldId('rent') }])
    expect(correction.items).toMatchObject([{ found: '150.00', now: '150.00', target: '110.00', state: 'clear' }])
    expect(await rentOf(id)).toEqual({ rent: '150.00' })
    await applyCorrection(deps(), correction.id, 'typed wrongly', admin)
    expect(await rentOf(id)).toEqual({ rent: '110.00' })
    await world.collect()
    const last = (await ledger(world)).at(-1)!
    expect(last).toMatchObject({
      actor: 'Ada Admin',
      kind: 'person',
      claimed: false,
      channel: 'correction',
      reason: 'typed wrongly',
    })
    const after = await wholeCorrection(world, correction.id)
    expect(after).toMatchObject({ state: 'applied', savedAs: [last.id] })
    expect(after.items[0]!.written).toBe(true)
  })

  it('says which effects the source’s own rules would have', async () => {
    const { save } = await changed('100.00', '200.00')
    const correction = await drafted([{ saveId: save.id, fieldId: await fieldId('rent') }])
    expect(correction.trial!.refusal).toBeNull()
    expect(correction.trial!.effects.map(({ fieldId: field, before, after }) => [field, before, after])).toEqual([
      [await fieldId('monthly'), '866.67', '433.33'],
      [await fieldId('twice'), '400.00', '200.00'],
    ])
  })

  it('reports a later change and does not overwrite it unless chosen', async () => {
    const { id, save } = await changed('110.00', '150.00')
    await sql('update tenancy set rent = 133 where id = $1', [id])
    const correction = await drafted([{ saveId: save.id, fieldId: await fieldId('rent') }])
    expect(correction.items).toMatchObject([{ now: '133.00', state: 'changed-since', choice: 'keep' }])
    await expect(applyCorrection(deps(), correction.id, 'no', admin)).rejects.toMatchObject({
      code: 'nothing-to-revert',
    })
    expect(await rentOf(id)).toEqual({ rent: '133.00' })
    await rehearseCorrection(
      deps(),
      correction.id,
      { items: new Map([[correction.items[0]!.id, 'overwrite' as const]]) },
      admin,
    )
    await applyCorrection(deps(), correction.id, 'yes, really', admin)
    expect(await rentOf(id)).toEqual({ rent: '110.00' })
  })

  it('writes nothing at all when one value moved after the rehearsal', async () => {
    const one = await changed('110.00', '150.00')
    const two = await changed('210.00', '250.00')
    const rent = await fieldId('rent')
    const correction = await drafted([
      { saveId: one.save.id, fieldId: rent },
      { saveId: two.save.id, fieldId: rent },
    ])
    await sql('update tenancy set rent = 251 where id = $1', [two.id])
    await expect(applyCorrection(deps(), correction.id, 'too late', admin)).rejects.toMatchObject({
      code: 'correction-moved',
    })
    expect(await rentOf(one.id)).toEqual({ rent: '150.00' })
    expect((await wholeCorrection(world, correction.id)).state).toBe('draft')
  })

  it('gives the source’s own words when a rule forbids it', async () => {
    const { id, save } = await changed('900.00', '150.00')
    const owner = await world.sources.connection(world.sourceId)
    await owner.raw('alter table public.tenancy add constraint modest check (rent < 500) not valid')
    const correction = await drafted([{ saveId: save.id, fieldId: await fieldId('rent') }])
    expect(correction.trial!.refusal).toContain('modest')
    expect(correction.trial!.refusal).not.toContain('update "public"')
    await expect(applyCorrection(deps(), correction.id, 'try anyway', admin)).rejects.toMatchObject({
      code: 'source-refused',
    })
    expect(await rentOf(id)).toEqual({ rent: '150.00' })
    await owner.raw('alter table public.tenancy drop constraint modest')
  })

  it.each([
    ['a record that is gone', 'delete from tenancy where id = $1', 'the record is not in the source any more'],
    ['a value that is back already', 'update tenancy set rent = 110 where id = $1', null],
  ])('%s is said', async (_, statement, why) => {
    const { id, save } = await changed('110.00', '150.00')
    await sql(statement, [id])
    const correction = await drafted([{ saveId: save.id, fieldId: await fieldId('rent') }])
    expect(correction.items[0]).toMatchObject({ state: why === null ? 'already-so' : 'blocked', why })
  })

  it('blocks what the source works out itself', async () => {
    const { save } = await changed('110.00', '150.00')
    const correction = await drafted([{ saveId: save.id, fieldId: await fieldId('twice') }])
    expect(correction.items[0]).toMatchObject({
      state: 'blocked',
      why: 'the source works this field out from others: set those back and it follows',
    })
  })

  describe('of values the source works out', () => {
    const decided = async (derivedFrom: number[]) => {
      const { id, type_id } = await world
        .db('spoor.field')
        .where({ column_name: 'monthly' })
        .first<{ id: number; type_id: number }>('id', 'type_id')
      const { revision } = await readDraft(world.db, world.sourceId)
      await stageDraft(
        world.db,
        world.sourceId,
        revision,
        [{ typeId: type_id, fieldId: id, keep: 'values', derivedFrom }],
        world.adminId,
      )
      await putInForce(world.db, world.sources, world.sourceId, revision + 1, 'said what follows', world.admin)
    }
    beforeAll(async () => decided([await fieldId('rent')]))
    afterAll(() => decided([]))

    it('foretells and compares them, and never writes them', async () => {
      const { id, save } = await changed('110.00', '150.00')
      const correction = await drafted([{ saveId: save.id }])
      const said = Object.fromEntries(
        correction.items.map((item) => [item.fieldId, [item.state, item.foretold?.value ?? null, item.target]]),
      )
      expect(said).toEqual({
        [await fieldId('rent')]: ['clear', null, '110.00'],
        [await fieldId('monthly')]: ['follows', '476.67', '476.67'],
        [await fieldId('twice')]: ['follows', '220.00', '220.00'],
      })
      expect(correction).toMatchObject({ itemCount: 1, trial: { effects: [], effectCount: 0 } })
      await applyCorrection(deps(), correction.id, 'typed wrongly', admin)
      const { rows } = await sql('select rent, monthly, twice from tenancy where id = $1', [id])
      expect(rows).toEqual([{ rent: '110.00', monthly: '476.67', twice: '220.00' }])
      const written = (await wholeCorrection(world, correction.id)).items.filter((item) => item.written)
      expect(written.map((item) => item.fieldId)).toEqual([await fieldId('rent')])
    })

    it('says where the source makes something else of them now', async () => {
      const { save } = await changed('110.00', '150.00')
      const owner = await world.sources.connection(world.sourceId)
      const works = (factor: string) =>
        owner.raw(
          `create or replace function public.keep() returns trigger language plpgsql as $$ begin new.monthly := round(new.rent * ${factor}, 2); return new; end $$`,
        )
      await works('2')
      const correction = await drafted([{ saveId: save.id }])
      await works('52 / 12')
      const monthly = await fieldId('monthly')
      expect(correction.items.find((item) => item.fieldId === monthly)).toMatchObject({
        state: 'follows',
        target: '476.67',
        foretold: { value: '220.00' },
      })
    })

    it('sets none back by itself, and leaves it where its cause is kept', async () => {
      const { id, save } = await changed('110.00', '150.00')
      const alone = await drafted([{ saveId: save.id, fieldId: await fieldId('monthly') }])
      expect(alone.items).toMatchObject([{ state: 'blocked', foretold: null }])
      await sql('update tenancy set rent = 133 where id = $1', [id])
      const kept = await drafted([{ saveId: save.id }])
      const monthly = await fieldId('monthly')
      expect(kept.items.find((item) => item.fieldId === monthly)).toMatchObject({ state: 'follows', foretold: null })
    })
  })

  it('tells NULL from a value, both ways', async () => {
    const { id, save } = await changed(null, '150.00')
    const correction = await drafted([{ saveId: save.id, fieldId: await fieldId('rent') }])
    await applyCorrection(deps(), correction.id, 'never set', admin)
    expect(await rentOf(id)).toEqual({ rent: null })
  })

  it('writes fields that a rule binds together in one statement, on any identifiers', async () => {
    await sql(`insert into pair values ('k''"?', 1, 'x', 1, 2)`)
    await sql(`update pair set low = 5, high = 9, "the ""value""" = 'y''\\"'`)
    await world.collect()
    const save = (await ledger(world)).at(-1)!
    const correction = await drafted([{ saveId: save.id }])
    await applyCorrection(deps(), correction.id, 'both together', admin)
    expect((await sql('select low, high, "the ""value""" as v from pair')).rows).toEqual([{ low: 1, high: 2, v: 'x' }])
  })

  it('of a correction is a correction like any other', async () => {
    const { id, save } = await changed('110.00', '150.00')
    const rent = await fieldId('rent')
    const first = await drafted([{ saveId: save.id, fieldId: rent }])
    await applyCorrection(deps(), first.id, 'back', admin)
    await world.collect()
    const second = await drafted([{ saveId: (await ledger(world)).at(-1)!.id, fieldId: rent }])
    await applyCorrection(deps(), second.id, 'and forth', admin)
    expect(await rentOf(id)).toEqual({ rent: '150.00' })
  })

  it('is applied once, however often it is asked for', async () => {
    const { id, save } = await changed('110.00', '150.00')
    const correction = await drafted([{ saveId: save.id, fieldId: await fieldId('rent') }])
    const asked = await Promise.allSettled(
      [1, 2, 3].map(() => applyCorrection(deps(), correction.id, 'pressed thrice', admin)),
    )
    expect(asked.map((one) => one.status).sort()).toEqual(['fulfilled', 'rejected', 'rejected'])
    expect(await rentOf(id)).toEqual({ rent: '110.00' })
  })
})

describe('a second person', () => {
  const put = async (edits: PlanEdit[]) => {
    const { revision } = await readDraft(world.db, world.sourceId)
    await stageDraft(world.db, world.sourceId, revision, edits, world.adminId)
    await putInForce(world.db, world.sources, world.sourceId, revision + 1, 'who applies it', world.admin)
  }

  it('applies what is more than the plan says, or sensitive, and is asked with words', async () => {
    const second = await secondPerson(world)
    const rent = await fieldId('rent')
    const many = [await changed('1', '2'), await changed('1', '2'), await changed('1', '2')]
    const all = (fieldOf = rent) => many.map(({ save }) => ({ saveId: save.id, fieldId: fieldOf }))
    await put([{ secondPerson: false, correctionsAbove: 2 }])
    const { id } = await drafted(all())
    expect(await wholeCorrection(world, id)).toMatchObject({ takesTwo: 'it writes more than 2 records' })
    await expect(applyCorrection(deps(), id, 'alone', admin)).rejects.toMatchObject({ code: 'second-person' })
    expect((await drafted(all().slice(1))).takesTwo).toBeNull()

    await expect(sendCorrectionBack(world.db, id, 'of what?', second)).rejects.toMatchObject({ code: 'second-person' })
    await proposeCorrection(world.db, id, 'typed wrongly', admin)
    expect((await waitingFor(world.db, second)).corrections).toMatchObject([{ id, reason: 'typed wrongly' }])
    expect((await waitingFor(world.db, admin)).corrections).toEqual([])
    await sendCorrectionBack(world.db, id, 'Which letter?', second)
    expect((await waitingFor(world.db, second)).corrections).toEqual([])
    expect((await waitingFor(world.db, admin)).sentBack).toMatchObject([{ id, words: 'Which letter?' }])
    await proposeCorrection(world.db, id, 'typed wrongly, letter of 3 March', admin)
    expect((await waitingFor(world.db, admin)).sentBack).toEqual([])
    // What is chosen otherwise is no longer what was proposed; what is only looked at again is.
    await rehearseCorrection(deps(), id, {}, admin)
    expect((await wholeCorrection(world, id)).proposed).toMatchObject({ reason: 'typed wrongly, letter of 3 March' })
    const [item] = (await wholeCorrection(world, id)).items
    await rehearseCorrection(deps(), id, { items: new Map([[item!.id, 'leave']]) }, admin)
    expect(await wholeCorrection(world, id)).toMatchObject({ proposed: null, takesTwo: null })
    await rehearseCorrection(deps(), id, { items: new Map([[item!.id, 'overwrite']]) }, admin)
    await applyCorrection(deps(), id, 'typed wrongly', second)
    expect(await rentOf(many[0]!.id)).toEqual({ rent: '1.00' })
    await expect(proposeCorrection(world.db, id, 'again', admin)).rejects.toMatchObject({ code: 'correction-closed' })

    const { type_id: typeId } = await world.db('spoor.field').where({ id: rent }).first<{ type_id: number }>('type_id')
    await put([
      { secondPerson: false, correctionsAbove: null },
      { typeId, fieldId: rent, sensitive: true },
    ])
    const { save } = await changed('1', '2')
    const one = await drafted([{ saveId: save.id, fieldId: rent }])
    expect(one.takesTwo).toBe('it sets a sensitive field back')
    await expect(applyCorrection(deps(), one.id, 'alone', admin)).rejects.toMatchObject({ code: 'second-person' })
    await put([{ typeId, fieldId: rent, sensitive: false }])
  })
})

describe('an answer that is lost', () => {
  const draftOf = async (from: string, to: string) => {
    const { id, save } = await changed(from, to)
    return { id, correction: await drafted([{ saveId: save.id, fieldId: await fieldId('rent') }]) }
  }
  const eventsOf = async (id: number) =>
    await world
      .db('ledger.event')
      .where({ kind: 'correction' })
      .whereLike('words', `%correction ${id}`)
      .orderBy('id')
      .select<{ words: string; outcome: string }[]>('words', 'outcome')

  it('does not make an applied correction a refused one', async () => {
    const { id, correction } = await draftOf('200.00', '300.00')
    await throughLossyWire(world, async (lossy) => {
      await world.sources.refresh(world.sourceId)
      lossy.lose()
      await applyCorrection(deps(), correction.id, 'typed wrongly', admin)
      expect(lossy.lost()).toBe(1)
    })
    expect(await rentOf(id)).toEqual({ rent: '200.00' })
    await world.collect()
    const after = await wholeCorrection(world, correction.id)
    expect(after).toMatchObject({ state: 'applied', appliedBy: 'Ada Admin', reason: 'typed wrongly' })
    expect(after.items.map((item) => item.written)).toEqual([true])
    expect(after.savedAs).toHaveLength(1)
    expect(await eventsOf(correction.id)).toEqual([{ words: `applied correction ${correction.id}`, outcome: 'done' }])
  })

  /** As a server leaves it that dies around the commit: with the writes done by the test, or not. */
  const leftBehind = async (correction: WholeCorrection, end: 'commit' | 'rollback', saved = false): Promise<void> => {
    const source = await world.sources.connection(world.sourceId)
    const item = correction.items[0]!
    const attempt: Attempt = { by: admin.id, reason: 'left', transaction: null, written: [item.id], overridden: [] }
    const trx = await source.transaction()
    await trx.raw(`select spoor_capture.context(actor => 'Ada Admin', channel => 'correction', correction => ?)`, [
      correction.id,
    ])
    await trx.raw('update tenancy set rent = ? where id = ?', [item.target, JSON.parse(item.key)[0]])
    const { rows } = await trx.raw<{ rows: { xid: string }[] }>('select pg_current_xact_id()::text as xid')
    attempt.transaction = rows[0]!.xid
    await noteAttempt(world.db, correction.id, attempt)
    await trx[end]()
    if (saved) await world.collect()
  }

  it.each([
    ['rollback', false, 'draft'],
    ['commit', false, 'applied'],
    ['commit', true, 'applied'],
  ] as const)(
    'a server that dies at the %s (collected: %s) leaves a correction that is found %s',
    async (end, saved, state) => {
      const { correction } = await draftOf('210.00', '310.00')
      await leftBehind(correction, end, saved)
      const other = applying(world.db, correction.id)
      expect(await other.holds()).toBe(true)
      // While another server is at it, nobody else is.
      expect(await settleAttempts(world.db, world.sources)).toEqual([])
      await expect(applyCorrection(deps(), correction.id, 'again', admin)).rejects.toMatchObject({
        code: 'correction-closed',
      })
      await expect(rehearseCorrection(deps(), correction.id, {}, admin)).rejects.toMatchObject({
        code: 'correction-closed',
      })
      await other.resign()
      expect(await settleAttempts(world.db, world.sources)).toHaveLength(1)
      const after = await wholeCorrection(world, correction.id)
      expect(after.state).toBe(state)
      expect(after.items[0]!.written).toBe(state === 'applied')
      expect(await settleAttempts(world.db, world.sources)).toEqual([])
      if (state === 'draft') await applyCorrection(deps(), correction.id, 'now really', admin)
      expect((await wholeCorrection(world, correction.id)).state).toBe('applied')
    },
  )

  it('of a server that died before it wrote anything is a draft again', async () => {
    const { correction } = await draftOf('220.00', '320.00')
    await noteAttempt(world.db, correction.id, {
      by: admin.id,
      reason: 'left',
      transaction: null,
      written: [],
      overridden: [],
    })
    expect(await settleAttempts(world.db, world.sources)).toHaveLength(1)
    expect((await wholeCorrection(world, correction.id)).state).toBe('draft')
  })
})

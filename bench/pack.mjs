import { open, rm } from 'node:fs/promises'
import { mkdtempSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { checkPack } from '../packages/core/dist/index.js'
import { OutsideSeals } from '../packages/server/dist/custody/outside.js'
import { Sealer } from '../packages/server/dist/custody/sealer.js'
import { SigningKey } from '../packages/server/dist/custody/signing-key.js'
import { Packing } from '../packages/server/dist/packs/packing.js'
import { askForPack } from '../packages/server/dist/packs/store.js'
import { packTools } from '../packages/verify/dist/pack-tools.js'
import { makeWorld, silent } from './world.mjs'

const saves = 100_000
const onPaper = 20_000

/** A pack of a hundred thousand saves with what proves them, made and checked; and one of twenty thousand changes on paper. */
export async function pack(cluster) {
  const world = await makeWorld(
    cluster,
    'create table public.rent (id int primary key, amount numeric, note text); create table public.charge (id int primary key, amount numeric)',
  )
  const directory = mkdtempSync(join(tmpdir(), 'spoor-bench-'))
  try {
    await world.track({ rent: ['amount', 'note'], charge: ['amount'] })
    await world.business.query(`insert into public.rent select n, n, 'note ' || n from generate_series(1, ${saves}) n`)
    await world.collect()
    const key = SigningKey.open(directory)
    const sealer = new Sealer({ db: world.db, key, outside: new OutsideSeals(directory), log: silent })
    while (await sealer.seal());
    const packing = new Packing({ db: world.db, directory, key, authority: null, sealWithinMs: 0 })
    const made = async (scope, shown) => {
      const wish = {
        title: 'a bench',
        why: 'a bench',
        zone: 'UTC',
        columns: ['time', 'who', 'record', 'field', 'before', 'after', 'reason'],
      }
      const { id } = await askForPack(
        world.db,
        { ...wish, scope, shown, said: false, stamped: false, blacked: [] },
        world.person,
      )
      const job = { id: 0, input: { packId: id }, askedBy: world.person.id, progress: () => Promise.resolve() }
      const start = performance.now()
      await packing.perform(job)
      return { path: join(directory, `pack-${id}.zip`), ms: performance.now() - start }
    }
    const whole = await made('', [])
    const file = await open(whole.path)
    const { size } = await file.stat()
    const read = async (from, to) => {
      const bytes = Buffer.alloc(to - from)
      await file.read(bytes, 0, to - from, from)
      return bytes
    }
    const start = performance.now()
    const report = await checkPack({ size, read }, packTools, { nowMs: Date.now() })
    const checkMs = performance.now() - start
    await file.close()
    if (report.failed > 0 || report.saves !== saves) throw new Error('the pack does not hold')
    await world.business.query(`insert into public.charge select n, n * 1.5 from generate_series(1, ${onPaper}) n`)
    await world.collect()
    const charge = await world.db('spoor.record_type').where({ table_name: 'charge' }).first('id')
    const paper = await made(`what=t${charge.id}`, ['pdf'])
    const rate = (ms) => saves / (ms / 1000)
    const line = (name, value, unit, against, target, holds) => ({
      name,
      value,
      unit,
      against,
      ratio: null,
      target,
      holds,
    })
    return [
      line(
        'pack',
        rate(whole.ms),
        'saves/s',
        `${saves} saves with proofs, ${(size / saves).toFixed(0)} bytes a save packed`,
        '>= 10000',
        rate(whole.ms) >= 10_000,
      ),
      line(
        'verify',
        rate(checkMs),
        'saves/s',
        'the same pack checked by the code of spoor-verify',
        '>= 10000',
        rate(checkMs) >= 10_000,
      ),
      line('pack-pdf', paper.ms / 1000, 's', `${onPaper} changes on paper`, '<= 30', paper.ms <= 30_000),
    ]
  } finally {
    await world.close()
    await rm(directory, { recursive: true })
  }
}

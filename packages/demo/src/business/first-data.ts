import type { Pool } from 'pg'
import { Chance } from './random.ts'
import { amenities, firms, firmTrades, firstNames, lastNames, services, streets, trades } from './words.ts'

const seed = 4310

/** A first small Larkmere: enough to do the whole job on, made the same every time. */
export async function loadFirstData(db: Pool): Promise<void> {
  const chance = new Chance(seed)
  const insert = async (table: string, columns: readonly string[], rows: readonly unknown[][]) => {
    await db.query(
      `insert into ${table} (${columns.join(', ')}) select ${await casts(db, table, columns)} from jsonb_array_elements($1) r`,
      [JSON.stringify(rows.map((row) => Object.fromEntries(columns.map((column, at) => [column, row[at]]))))],
    )
  }
  const officers = ['Oona Marchetti', 'Tariq Lindqvist', 'Ishbel Coombe', 'Ansel Duarte', 'Piet Okonjo']
  await insert(
    'reference.officer',
    ['id', 'full_name', 'patch', 'joined_on'],
    officers.map((name, at) => [at + 1, name, streets[at], `201${at + 4}-09-01`]),
  )
  const bands = ['A', 'B', 'C', 'D', 'E', 'F']
  await insert(
    'reference.rent_band',
    ['code', 'name', 'weekly_figure', 'in_force_from'],
    bands.map((code, at) => [code, `Band ${code}`, (88.4 + at * 11.35).toFixed(2), '2026-04-06']),
  )
  const homes = 240
  await insert(
    'lettings.home',
    ['id', 'address', 'bedrooms', 'floor_area', 'rent_band', 'epc_rating', 'amenities', 'settings'],
    Array.from({ length: homes }, (_, at) => [
      1001 + at,
      `${1 + Math.floor(at / streets.length)} ${streets[at % streets.length]}`,
      chance.whole(1, 4),
      (32 + chance.whole(0, 600) / 10).toFixed(1),
      chance.pick(bands),
      chance.pick(['B', 'C', 'C', 'D', 'D', 'E']),
      `{${chance
        .some(amenities, chance.whole(0, 4))
        .map((one) => `"${one}"`)
        .join(',')}}`,
      JSON.stringify({ heating: { kind: chance.pick(['gas', 'electric', 'district']), controls: chance.odds(0.3) } }),
    ]),
  )
  await insert(
    'lettings.tenant',
    ['id', 'full_name', 'date_of_birth', 'phone', 'email'],
    Array.from({ length: homes }, (_, at) => {
      const name = `${chance.pick(firstNames)} ${chance.pick(lastNames)}`
      return [
        at + 1,
        name,
        `19${chance.whole(40, 99)}-0${chance.whole(1, 9)}-1${chance.whole(0, 9)}`,
        `01632 960${chance.whole(100, 999)}`,
        `tenant${at + 1}@post.example`,
      ]
    }),
  )
  await insert(
    'lettings.tenancy',
    [
      'id',
      'home_id',
      'tenant_id',
      'weekly_rent',
      'service_charge',
      'deposit',
      'start_on',
      'review_date',
      'support_services',
      'officer_id',
      'balance',
      'notes',
    ],
    Array.from({ length: homes }, (_, at) => [
      10001 + at,
      1001 + at,
      at + 1,
      (85 + chance.whole(0, 6500) / 100).toFixed(2),
      (8 + chance.whole(0, 900) / 100).toFixed(2),
      chance.pick(['0.00', '250.00', '425.00', '500.00']),
      `20${chance.whole(10, 25)}-0${chance.whole(1, 9)}-0${chance.whole(1, 9)}`,
      `2027-0${chance.whole(1, 9)}-14`,
      `{${chance
        .some(services, chance.whole(0, 4))
        .map((one) => `"${one}"`)
        .join(',')}}`,
      chance.whole(1, officers.length),
      (chance.whole(-8000, 24000) / 100).toFixed(2),
      chance.odds(0.4) ? 'Prefers letters. Dog in the garden; ring first.' : null,
    ]),
  )
  await insert(
    'contractors.contractor',
    ['id', 'name', 'bank_account', 'account_holder', 'insurance_expiry', 'approved_trades'],
    firms.slice(0, 12).map((firm, at) => {
      const name = `${firm} ${firmTrades[at % firmTrades.length]}`
      const digits = () => String(chance.whole(1000, 9999))
      return [
        501 + at,
        name,
        `LM0${at % 10} ${digits()} ${digits()} ${digits()}`,
        `${name} Ltd`,
        `2027-0${chance.whole(1, 9)}-28`,
        `{${chance
          .some(trades, chance.whole(1, 4))
          .map((one) => `"${one}"`)
          .join(',')}}`,
      ]
    }),
  )
  await insert('lettings.legacy_keys', ['home_id', 'hook', 'note'], [[1001, 'B14', 'spare?'], [1001, 'B14', null], [1044, 'C2', 'front door']]) // prettier-ignore
}

async function casts(db: Pool, table: string, columns: readonly string[]): Promise<string> {
  const { rows } = await db.query<{ name: string; type: string }>(
    `select attname::text as name, format_type(atttypid, atttypmod) as type from pg_attribute where attrelid = $1::regclass and attnum > 0`,
    [table],
  )
  const types = new Map(rows.map((row) => [row.name, row.type]))
  return columns.map((column) => `(r->>'${column}')::${types.get(column)}`).join(', ')
}
